"""Personas, talks, lists of models, probes and comparisons, from the shell."""

import json
from typing import Any

from agouti.standins import Served

from .conftest import Command


def test_personas_from_the_shell(agouti_command: Command, served: Served, tmp_path: Any) -> None:
    (tmp_path / "agouti.toml").write_text(
        served.toml + "\n[models.translator]\nlike = 'almanac-local'\nsystem = 'Into {language}.'\n"
        "blanks = { language = 'English', tone = '' }\nexamples = [['{tone}', 'b']]\n"
    )
    done = agouti_command(
        "explain", "translator", "Moin", "--blank", "language=Italian", "--blank", "tone=a=b", "--json"
    )
    shown = json.loads(done.stdout)
    assert [each["content"] for each in shown["body"]["messages"]] == ["Into Italian.", "a=b", "b", "Moin"]
    origins = {each["name"]: each["origin"] for each in shown["settings"] if "language" in each["name"]}
    assert origins["blanks.language"] == "argument"
    assert "agouti.toml:" in origins["models.translator.blanks.language"]
    for arguments, said in (
        (["ask", "translator", "Moin"], "blank 'tone'"),
        (["ask", "translator", "Moin", "--blank", "tone"], "--blank takes NAME=VALUE"),
    ):
        done = agouti_command(*arguments)
        assert done.returncode == 2
        assert said in done.stderr
