"""A translator persona: a system text and examples with variables, filled by each call.

Run it against the simulated providers:   python examples/09_translator.py
"""

import tempfile
from contextlib import chdir
from pathlib import Path

import agouti
import agouti.standins

PERSONA = """
[models.translator]
extends = "almanac"
system = "Translate into {language}. Only the translation, no comments. {place} stays as it is."
variables = { language = "English", place = "" }
examples = [["Guten Tag aus {place}", "Good day from {place}"]]
"""

with agouti.standins.serve() as served, tempfile.TemporaryDirectory() as folder, chdir(folder):
    Path("agouti.toml").write_text(served.toml + PERSONA)
    Path(".env").write_text("".join(f"{name}={value}\n" for name, value in served.environment.items()))
    with agouti.Client() as client:
        variables = {"place": "Marsh Lane"}
        print(client.ask("translator", "Der Kohl steht gut.", variables=variables))
        for language in ("Italian", "Welsh"):
            shown = agouti.explain(client, "translator", "Moin", variables={"language": language, **variables})
            print(shown.body["messages"][0]["content"])
        try:
            client.ask("translator", "Moin")
        except agouti.RequestError as error:
            print(f"not sent: {error.message}. {error.hint}")
