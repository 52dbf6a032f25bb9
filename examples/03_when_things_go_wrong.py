"""Retries, a fallback, a deadline, a broken stream, and a recorded exchange.

Run it against the simulated providers:   python examples/03_when_things_go_wrong.py
"""

import tempfile
from pathlib import Path

import agouti
import agouti.standins

CONFIG = """
[providers.toll]
address = "{toll}"
key = {{ env = "TOLL_KEY" }}

[providers.shed]
address = "{shed}"
retries = {{ max = 2, base = 0.05 }}

[models.almanac]
provider = "toll"                       # this account has run out of credit
name = "penny-1"
fallback = ["almanac-local"]

[models.almanac-local]
provider = "shed"
name = "loam-2b+status=503x1#example"   # overloaded at the first try
"""

with agouti.standins.serve() as served, tempfile.TemporaryDirectory() as folder:
    path = Path(folder, "agouti.toml")
    path.write_text(CONFIG.format(toll=served.address("toll"), shed=served.address("shed")))
    config = agouti.load_config(path, environment=served.environment)

    with agouti.Client(config, record=Path(folder, "exchange.har")) as client:
        reply = client.ask("almanac", "When does garlic go in?", deadline=10)
        print(reply)
        for attempt in reply.attempts:
            print(f"  {attempt.provider}: {attempt.outcome} {attempt.why}")

        try:
            for text in client.stream("loam-2b+cut=6@shed", "When does garlic go in?"):
                print(text, end="|")
        except agouti.StreamCut as error:
            print(f"\n  {error.message}")
            print(f"  kept: {error.partial.text!r}" if error.partial is not None else "")

    with agouti.Client(config, replay=Path(folder, "exchange.har")) as client:
        print("replayed:", client.ask("almanac", "When does garlic go in?").text == reply.text)
