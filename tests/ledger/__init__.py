"""The ledger."""
