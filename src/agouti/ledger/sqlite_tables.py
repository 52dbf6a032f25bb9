"""The tables of a ledger in SQLite, and how those of the version before become these."""

from .tables import ADDED, COLUMNS, KEYS, LATENCY_KEYS, OLD_KEYS, OLD_SUMS, SUMS, VERSION

APPLICATION = 0x41676F75

_SUMS = f"""
CREATE TABLE sums ({", ".join(f"{name} TEXT NOT NULL" for name in KEYS)},
  {", ".join(f"{name} NOT NULL" for name in SUMS)}, PRIMARY KEY ({", ".join(KEYS)})) WITHOUT ROWID"""
_BUDGETS = """
CREATE TABLE reservations (id INTEGER PRIMARY KEY AUTOINCREMENT, budget INTEGER NOT NULL, period TEXT NOT NULL,
  value TEXT NOT NULL, amount NOT NULL, expires REAL NOT NULL);
CREATE INDEX reservations_expire ON reservations (expires);
CREATE TABLE budgets (id INTEGER PRIMARY KEY, key TEXT NOT NULL UNIQUE, definition TEXT NOT NULL);
CREATE TABLE spent (budget INTEGER NOT NULL, period TEXT NOT NULL, value TEXT NOT NULL, amount NOT NULL,
  reserved NOT NULL, PRIMARY KEY (budget, period, value)) WITHOUT ROWID"""
SCHEMA = f"""
CREATE TABLE attempts (id INTEGER PRIMARY KEY, {", ".join(f'"{name}"' for name in COLUMNS)});
CREATE INDEX attempts_at ON attempts (at);
{_SUMS};
CREATE TABLE latencies ({", ".join(f"{name} TEXT NOT NULL" for name in LATENCY_KEYS)}, bucket INTEGER NOT NULL,
  count INTEGER NOT NULL, PRIMARY KEY ({", ".join(LATENCY_KEYS)}, bucket)) WITHOUT ROWID;
{_BUDGETS};
PRAGMA application_id = {APPLICATION};
PRAGMA user_version = {VERSION}
"""
_NEW = {"key": "''", "error": "''", "operation": "'chat'"}
_FROM_OLD = ", ".join(
    [name if name in OLD_KEYS else _NEW[name] for name in KEYS] + [name if name in OLD_SUMS else "0" for name in SUMS]
)
UPGRADE = f"""
ALTER TABLE sums RENAME TO old_sums;
{_SUMS};
INSERT INTO sums SELECT {_FROM_OLD} FROM old_sums;
DROP TABLE old_sums;
DROP TABLE reservations;
{_BUDGETS};
{"; ".join(f"ALTER TABLE attempts ADD COLUMN {name}" for name in ADDED)};
PRAGMA user_version = {VERSION}
"""
# How a file of the first version is read that nothing is to be written to.
AS_NEW = f"""
CREATE TEMP VIEW sums AS SELECT {
    ", ".join(f"{part} AS {name}" for part, name in zip(_FROM_OLD.split(", "), (*KEYS, *SUMS), strict=True))
} FROM main.sums;
CREATE TEMP VIEW attempts AS SELECT *, {", ".join(f"NULL AS {name}" for name in ADDED)} FROM main.attempts;
CREATE TEMP TABLE budgets (id INTEGER PRIMARY KEY, key TEXT, definition TEXT)
"""
ADD = (
    f"INSERT INTO sums AS old VALUES ({', '.join('?' * (len(KEYS) + len(SUMS)))}) "
    f"ON CONFLICT ({', '.join(KEYS)}) DO UPDATE SET "
    + ", ".join(f"{name} = exact_add(old.{name}, excluded.{name})" for name in SUMS)
)
ADD_LATENCY = (
    f"INSERT INTO latencies AS old VALUES ({', '.join('?' * (len(LATENCY_KEYS) + 2))}) "
    f"ON CONFLICT ({', '.join(LATENCY_KEYS)}, bucket) DO UPDATE SET count = old.count + excluded.count"
)
