"""Personas, talks, lists of models, probes and comparisons, from the shell."""

import csv
import json
import os
import subprocess
import sys
import time
import tomllib
from typing import Any

import pytest

from agouti.conversations.files import lock_conversation
from agouti.standins import Served, serve

from ..hostile.kit import reply, serving
from .conftest import Command


def test_personas_from_the_shell(agouti_command: Command, served: Served, tmp_path: Any) -> None:
    (tmp_path / "agouti.toml").write_text(
        served.toml + "\n[models.translator]\nextends = 'almanac-local'\nsystem = 'Into {language}.'\n"
        "variables = { language = 'English', tone = '' }\nexamples = [['{tone}', 'b']]\n"
    )
    done = agouti_command("explain", "translator", "Moin", "--var", "language=Italian", "--var", "tone=a=b", "--json")
    shown = json.loads(done.stdout)
    assert [each["content"] for each in shown["body"]["messages"]] == ["Into Italian.", "a=b", "b", "Moin"]
    origins = {each["name"]: each["origin"] for each in shown["settings"] if "language" in each["name"]}
    assert origins["variables.language"] == "argument"
    assert "agouti.toml:" in origins["models.translator.variables.language"]
    for arguments, said in (
        (["ask", "translator", "Moin"], "blank 'tone'"),
        (["ask", "translator", "Moin", "--var", "tone"], "--var takes NAME=VALUE"),
    ):
        done = agouti_command(*arguments)
        assert done.returncode == 2
        assert said in done.stderr


GOOD_LINES = '{"role": "user", "content": "Peas?"}\n{"role": "assistant", "content": "In March."}\n'


def test_talks_through_a_pipe(agouti_command: Command, agouti_here: Command, served: Served, tmp_path: Any) -> None:
    (tmp_path / "agouti.toml").write_text(
        served.toml + '\n[models.helper]\nextends = "almanac-local"\ntools = ["shelf:days_to_frost"]\ncontext = 300\n'
        'inputs = ["text"]\n'
    )
    (tmp_path / "shelf.py").write_text('def days_to_frost(place: str) -> int:\n    """Days."""\n    return 17\n')
    (tmp_path / "packet.png").write_bytes(b"\x89PNG\r\n\x1a\n" + bytes(20))
    turns = "How many days until the last frost at Marsh Lane?\n\n?usage\n?image packet.png\nWhat is it?\n?again\n"
    done = agouti_command("talk", "helper", "--commands", "--save", "t.jsonl", text=turns)
    assert done.stdout.startswith("The answer is 17.\n")
    for said in ("[calls days_to_frost]", "of 300 left", "takes no images", "2 answers, "):
        assert said in done.stderr
    assert (done.returncode, done.stdout.count("\n")) == (2, 2)
    assert len((tmp_path / "t.jsonl").read_text().splitlines()) == 5
    # The image stays for the next turn until one has taken it; a talk that is kept is gone on with.
    done = agouti_command("talk", "helper", "--resume", "t.jsonl", text="Peas?\n" * 6)
    assert done.returncode == 0
    assert "are not sent any more" in done.stderr
    assert len((tmp_path / "t.jsonl").read_text().splitlines()) == 17
    for arguments, text, code, said in (
        (["helper", "--save", "t.jsonl"], "x", 2, "--resume t.jsonl"),
        (["helper", "--save", "nowhere/t"], "x", 2, "cannot be written"),
        (["helper", "--resume", "shelf.py"], "x", 2, "is no conversation"),
        (["helper", "--commands"], "?undoo", 2, "Did you mean ?undo"),
        (["helper", "--commands"], "?image nowhere.png", 2, "nowhere.png is no file"),
        (["helper"], "", 0, ""),
        (["helper", "--on-overflow", "shrink"], "x", 2, "drop_oldest"),
        (["almanac-local+status=401"], "x\ny\n", 2, "there is no model"),
    ):
        done = agouti_here("talk", *arguments, text=text)
        assert (done.returncode, said in done.stderr) == (code, True), done.stderr
    # What goes with the next turn can be taken back, and a file that is torn is gone on with whole: undone turns too.
    done = agouti_command("talk", "helper", "--commands", text="?image packet.png\n?image\nPeas?\n")
    assert (done.returncode, "nothing goes with the next turn" in done.stderr) == (0, True)
    torn = GOOD_LINES + '{"role": "user", "con'
    (tmp_path / "torn.jsonl").write_text(torn)
    agouti_command("talk", "helper", "--resume", "torn.jsonl", "--commands", text="Kale?\n?undo\n?undo\nLeeks?\n")
    said = [json.loads(line) for line in (tmp_path / "torn.jsonl").read_text().splitlines()[1:]]
    assert [each["content"] for each in said if each["role"] == "user"] == ["Leeks?"]
    assert (tmp_path / "torn.jsonl.torn").read_text() == torn
    (tmp_path / "old.jsonl").write_text('{"role": "user", "content": "Old."}\n')
    done = agouti_command(
        "talk",
        "helper",
        "--commands",
        "--save",
        "new.jsonl",
        text="?save old.jsonl\nPeas?\n?save new.jsonl\n?save t2\n?undo",
    )
    assert "old.jsonl is there already" in done.stderr
    assert (tmp_path / "old.jsonl").read_text().count("\n") == 1
    assert len((tmp_path / "t2").read_text().splitlines()) == 1
    assert len((tmp_path / "new.jsonl").read_text().splitlines()) == 3
    with lock_conversation(tmp_path / "t.jsonl"):
        done = agouti_command("talk", "helper", "--resume", "t.jsonl", text="Peas?")
    assert (done.returncode, "a talk is kept in t.jsonl" in done.stderr) == (2, True)
    (tmp_path / "shelf.py").write_text("")
    assert "there is no days_to_frost in shelf" in agouti_command("talk", "helper", text="x").stderr


def test_models_of_all_providers(agouti_command: Command, agouti_here: Command, served: Served, tmp_path: Any) -> None:
    toml = (
        served.toml
        + '\n[providers.away]\naddress = "http://127.0.0.1:9/v1"\n[models.far]\nprovider = "away"\nname = "x"\n'
    )
    (tmp_path / "agouti.toml").write_text(toml + "[models.kids]\nextends = 'almanac'  # smaller words\n")
    done = agouti_command("models", "--sort", "context", "--json", **served.environment)
    rows = json.loads(done.stdout)
    assert (done.returncode, rows[0]["name"]) == (0, "quill-next")
    far = next(row for row in rows if row["label"] == "far")
    assert (far["provider"], far["listed"]) == ("away", None)
    assert "away: " in done.stderr
    assert "kept from" not in done.stderr
    # Lists are kept, except those that failed; a key that is gone is not noticed meanwhile.
    done = agouti_command("models", "quill", "--min-context", "9000")
    assert "providers are kept from" in done.stderr
    assert [line.split()[0] for line in done.stdout.splitlines()] == ["label", "almanac", "quill-next", "quill-thinker"]
    done = agouti_command("models", "--refresh", "--provider", "away")
    assert done.returncode == 1
    done = agouti_command("models", "--write", "--provider", "northbank", **served.environment)
    assert "almanac has context = 32768" in done.stderr
    written = (tmp_path / "agouti.toml").read_text()
    assert "# smaller words" in written
    assert written.count("context = ") == 2  # of almanac and finder: personas take it from there
    assert "nothing to write" in agouti_command("models", "--write", "--provider", "northbank").stderr
    for path in (tmp_path / "cache").rglob("models.json"):
        path.write_text("{ broken")
    assert agouti_command("models", "--provider", "shed").returncode == 0
    for arguments in (["--provider", "shedd"], ["--sort", "size"], ["--min-context", "x"]):
        assert agouti_here("models", *arguments).returncode == 2


LISTED = b'{"data":[{"id":"n","pricing":{"prompt":"0.0000015","completion":"0.000002"}}]}'


@pytest.mark.parametrize(
    ("price", "written", "said"),
    [
        ('price = { input = 1.0, output = 2.0, reasoning = 5.0, request = 0.01, image = 0.5, currency = "USD" } # ours\n',
         {"input": 1.5, "output": 2.0, "reasoning": 5.0, "request": 0.01, "image": 0.5, "currency": "USD"}, "has price"),
        ('[models.m.price]\ninput = 1.0\noutput = 2.0\nreasoning = 5.0 # ours\ncurrency = "USD"\n',
         {"input": 1.5, "output": 2.0, "reasoning": 5.0, "currency": "USD"}, "has price"),
        ('price = { input = 1.0, output = 2.0, currency = "USD", since = 2026-01-01 } # ours\n', None, "prices by date"),
        ('price = [{ input = 1.0, output = 2.0, currency = "USD" }, { input = 1.2, output = 2.0, currency = "USD", since = 2026-01-01 }] # ours\n',
         None, "prices by date"),
    ],
    ids=["inline", "table", "since", "several"],
)  # fmt: skip
def test_prices_that_are_written_lose_nothing(
    agouti_here: Command, tmp_path: Any, price: str, written: Any, said: str
) -> None:
    with serving(lambda connection, _: connection.write(reply(LISTED))) as server:
        text = f'[providers.p]\naddress = "{server.address}"\n[models.m]\nprovider = "p"\nname = "n"\n{price}'
        (tmp_path / "agouti.toml").write_text(text)
        done = agouti_here("models", "--refresh", "--write")
    after = (tmp_path / "agouti.toml").read_text()
    assert said in done.stderr
    assert "# ours" in after
    assert (after == text) == (written is None)
    assert written is None or tomllib.loads(after)["models"]["m"]["price"] == written


def test_half_a_price_is_not_free_and_lists_are_kept_for_a_day(agouti_here: Command, tmp_path: Any) -> None:
    models = [{"id": name, "pricing": pricing} for name, pricing in (("gratis", {"prompt": "0", "completion": "0"}), ("half", {"prompt": "0"}), ("dear", {"prompt": "0", "completion": "1e-6"}))]  # fmt: skip
    with serving(lambda connection, _: connection.write(reply(json.dumps({"data": models}).encode()))) as server:
        (tmp_path / "agouti.toml").write_text(f'[providers.p]\naddress = "{server.address}"\n')
        for age, asked in ((0, 1), (0, 1), (23, 1), (25, 2)):
            for kept in (tmp_path / "cache").rglob("models.json"):
                lists = json.loads(kept.read_bytes())
                for each in lists.values():
                    each["at"] = time.time() - age * 3600
                kept.write_text(json.dumps(lists))
            done = agouti_here("models", "--free", "--json")
            assert [row["name"] for row in json.loads(done.stdout)] == ["gratis"]
            assert len(server.requests) == asked


def test_a_budget_in_which_nothing_can_count_is_found(agouti_here: Command, tmp_path: Any) -> None:
    with serving(lambda connection, _: connection.write(reply(LISTED))) as server:
        (tmp_path / "agouti.toml").write_text(
            f'[providers.p]\naddress = "{server.address}"\n[models.m]\nprovider = "p"\nname = "n"\n'
            'price = { input = 1, output = 2, currency = "usd" }\n'
            '[ledger]\nstore = "u.sqlite"\n[budgets.fine]\namount = 1\ncurrency = "Usd"\n[budgets.wrong]\namount = 1\ncurrency = "EUR"\n'
        )
        done = agouti_here("check")
    assert done.returncode == 1
    assert "budgets.wrong.currency is EUR, and its models have prices in USD" in done.stdout
    assert "budgets.fine" not in done.stdout


def test_probes_and_what_they_write(
    agouti_command: Command, agouti_here: Command, served: Served, tmp_path: Any
) -> None:
    (tmp_path / "agouti.toml").write_text(
        served.toml + '\n[models.liar]   # we shall see\nprovider = "northbank"\nname = "quill-large+lies=6"\n'
        'output_methods = ["schema", "json"]\n[models.kids]\nextends = "liar"\n'
    )
    done = agouti_command("check", "--probe", "kids", "--write", **served.environment)
    assert (done.returncode, "no price is known" in done.stderr) == (1, True)
    [wrong] = [line for line in done.stdout.splitlines() if "WRONG" in line]
    assert wrong.split()[1:4] == ["JSON", "mode", "no"]
    written = (tmp_path / "agouti.toml").read_text()
    assert "[models.liar]   # we shall see" in written
    assert 'output_methods = ["schema", "tool", "prompt"]' in written
    done = agouti_command("check", "--probe", "--json", "almanac", "--max-cost", "1", **served.environment)
    assert (done.returncode, json.loads(done.stdout)[0]["rows"][0]["what"]) == (0, "stream")
    for arguments in (["--write"], ["--max-cost", "1"], ["--probe", "almanak"], ["--probe", "liar", "--max-cost", "1"]):
        assert agouti_here("check", *arguments, **served.environment).returncode == 2


def test_comparisons_are_shown_kept_and_gone_on_with(
    agouti_command: Command, agouti_here: Command, served: Served, tmp_path: Any
) -> None:
    (tmp_path / "agouti.toml").write_text(served.toml + "[models.blind]\nextends = 'almanac'\ninputs = ['text']\n")
    (tmp_path / "q.csv").write_text("question,month\nWhen do peas go in?,March\nWhen does garlic go in?,October\n")
    (tmp_path / "e.txt").write_text("March\n")
    (tmp_path / "p.png").write_bytes(b"\x89PNG\r\n\x1a\n")
    both = ["compare", "almanac", "almanac-local"]
    plain = agouti_command(*both, "When do peas go in?", "--contains", "march", **served.environment)
    assert plain.returncode == 0
    assert plain.stdout.count("Peas go in from March") == 2
    assert "1.00" in plain.stdout.splitlines()[-1]
    from_file = [*both, "--prompts", "q.csv", "--column", "question", "-t", "0", "-t", "1", "--repeats", "2"]
    done = agouti_command(*from_file, "--json", **served.environment)
    shown = json.loads(done.stdout)
    assert (len(shown["rows"]), len(shown["summary"]), shown["rows"][0]["parameter_temperature"]) == (16, 4, 0)
    # Without a key one of them fails: what came is kept, and only the rest is asked for.
    done = agouti_command(*from_file, "--out", "r.html")
    assert (done.returncode, (tmp_path / "r.html").exists()) == (1, True)
    assert "NORTHBANK_KEY is not set" in done.stderr
    done = agouti_command(*from_file, "--out", "r.html", **served.environment)
    assert (done.returncode, "--resume" in done.stderr) == (2, True)
    done = agouti_command(*from_file, "--out", "r.html", "--resume", **served.environment)
    assert done.returncode == 0
    assert "16 answers in r.html" in done.stderr
    assert [path.name for path in tmp_path.glob(".r.html*")] == []
    wrong = (
        ([*both], "no prompt"),
        (["compare", "almanac", "almanac", "Peas?"], "is there twice"),
        (["compare", "blind", "Peas?", "--image", "p.png"], "takes no images"),
        ([*from_file, "--out", "r.txt"], "no suffix"),
        ([*from_file, "--out", "nowhere/r.csv"], "cannot be written"),
        ([*from_file, "--resume"], "--resume goes with --out"),
        ([*from_file, "--expect", "e.txt"], "1 texts for 2 prompts"),
        ([*both, "Peas?", "--pattern", "("], "cannot be read"),
        ([*both, "--prompts", "none.txt"], "none.txt cannot be read"),
        ([*both, "Peas?", "--judge", "nobody"], "no model 'nobody'"),
    )
    for arguments, said in wrong:
        done = agouti_here(*arguments)
        assert (done.returncode, said in done.stderr) == (2, True), (arguments, done.stderr)


def test_a_comparison_that_is_killed_pays_for_nothing_twice(tmp_path: Any) -> None:
    with serve(pace=0.01) as served:
        (tmp_path / "agouti.toml").write_text(served.toml)
        (tmp_path / "q.txt").write_text("".join(f"When do peas go in? {number}\n" for number in range(12)))
        command = [sys.executable, "-m", "agouti", "compare", "almanac", "almanac-local", "--prompts", "q.txt"]
        command += ["--repeats", "2", "-n", "12", "--out", "r.jsonl", "--concurrency", "3", "--resume"]
        environment = {**os.environ, **served.environment}
        for _ in range(3):
            process = subprocess.Popen(command, cwd=tmp_path, env=environment, stderr=subprocess.DEVNULL)
            time.sleep(1.6)
            process.kill()
            process.wait()
        done = subprocess.run(
            command, cwd=tmp_path, env=environment, check=False, capture_output=True, text=True, timeout=60
        )
        assert done.returncode == 0 or "is complete" in done.stderr  # it may have been done before the last kill
        asked = sum(count for (_, status), count in served.books.requests.items() if status == 200)
    assert len((tmp_path / "r.jsonl").read_text().splitlines()) == 48
    assert 48 <= asked <= 48 + 3 * 6  # those in flight, three times


def test_usage_from_the_shell(agouti_command: Command, agouti_here: Command, tmp_path: Any) -> None:
    with serve() as served:
        (tmp_path / "agouti.toml").write_text(served.toml + '[ledger]\nstore = "usage.sqlite"\n')
        assert "there is no ledger" in agouti_command("usage").stderr
        for label in ("almanac", "almanac", "almanac-local"):
            assert agouti_command("ask", label, "Peas?", **served.environment).returncode == 0
        shown = json.loads(agouti_command("usage", "--json", "--by", "label").stdout)
        books = served.books
    assert [(row["label"], row["calls"]) for row in shown["rows"]] == [("almanac", 2), ("almanac-local", 1)]
    assert shown["total"]["input_tokens"] == sum(books.input_tokens.values())
    assert list(shown["total"]["cost"]) == ["USD"]
    done = agouti_command("usage", "--out", "u.csv")
    assert "total" in done.stdout
    assert "1 calls is not known" in done.stderr
    assert (tmp_path / "u.csv").read_text().startswith("day,model,calls")
    assert "nothing was used" in agouti_command("usage", "--last-month").stdout
    for arguments in (
        ["--since", "x"],
        ["--last-month", "--since", "2026-01-01"],
        ["--by", "colour"],
        ["--out", "u.txt"],
    ):
        assert agouti_here("usage", *arguments).returncode == 2
    for name in ("a.csv", "a.jsonl", "a.parquet"):
        assert "3 rows in" in agouti_command("usage", "--attempts", "--out", name).stderr
    attempts = [json.loads(line) for line in (tmp_path / "a.jsonl").read_text().splitlines()]
    assert [row["label"] for row in attempts] == ["almanac", "almanac", "almanac-local"]
    assert round(sum(row["cost"] or 0 for row in attempts), 9) == round(shown["total"]["cost"]["USD"], 9)
    with (tmp_path / "a.csv").open(newline="") as file:
        assert [row["label"] for row in csv.DictReader(file)] == ["almanac", "almanac", "almanac-local"]
    assert "0 rows" in agouti_command("usage", "--forget-before", "2020-01-01").stderr
    assert "3 rows" in agouti_command("usage", "--forget-before", "2222-01-01").stderr
    assert json.loads(agouti_command("usage", "--json").stdout)["total"]["calls"] == 3  # sums stay
    (tmp_path / "bill.csv").write_text("Date,Model,Amount\n2020-01-01,quill-large,1\n2222-01-01,x,$2\n")
    (tmp_path / "odd.csv").write_text("day,model,cost\nyesterday,quill,much\n")
    lines = json.loads(agouti_here("usage", "--invoice", "bill.csv", "--json").stdout)
    assert {line["model"]: line["calls"] for line in lines} == {"quill-large": 2, "loam-2b": 1}
    assert "line 2 of odd.csv" in agouti_here("usage", "--invoice", "odd.csv").stderr
    assert "no columns" in agouti_here("usage", "--invoice", "a.jsonl").stderr
    assert "0 sums" in agouti_here("usage", "--thin-before", "2222-01-01").stderr
    assert agouti_here("usage", "--thin-before", "2222-01-01", "--json").returncode == 2
    assert agouti_here("usage", "--attempts").returncode == 2
    assert agouti_here("usage", "--attempts", "--out", "b.csv", "--json").returncode == 2
    assert agouti_here("usage", "--forget-before", "2020-01-01", "--json").returncode == 2
    (tmp_path / "agouti.toml").write_text(served.toml)
    done = agouti_command("usage")
    assert (done.returncode, "[ledger]" in done.stderr) == (2, True)
