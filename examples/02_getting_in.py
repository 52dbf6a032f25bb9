"""Adopt a pasted curl command, check it, explain what would be sent, ask.

Run it against the simulated providers:   python examples/02_getting_in.py
"""

import tempfile
from contextlib import chdir
from pathlib import Path

import agouti
import agouti.standins
from agouti.adopt import curl, entries
from agouti.config.write import write_dotenv, write_toml

with agouti.standins.serve() as served, tempfile.TemporaryDirectory() as folder, chdir(folder):
    # As a provider's pages show it, with a key in it.
    pasted = f"""curl {served.address("orchard")}/chat/completions \\
      -H 'x-orchard-key: {served.environment["ORCHARD_KEY"]}' -H 'x-orchard-version: 2026-03-01' \\
      -H 'x-project: seed-library' -d '{{"model": "pippin-1", "messages": [], "temperature": 0.2}}'"""

    adopted = entries.adopt(curl.read(pasted), provider_label="orchard", model_label="almanac")
    write_toml(Path("agouti.toml"), adopted.entries)
    write_dotenv(Path(".env"), adopted.secrets)
    print(Path("agouti.toml").read_text())

    with agouti.Client() as client:
        for provider in agouti.check(client):
            for finding in provider.findings:
                print("ok   " if finding.ok else "WRONG", finding.what, "-", finding.detail)
        print()
        sent = agouti.explain(client, "almanac", "When do peas go in?")
        print(sent.method, sent.address, sent.headers["x-orchard-key"])
        print(client.ask("almanac", "When do peas go in?"))
