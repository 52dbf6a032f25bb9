"""Make the screenshots: each command in a terminal window on a virtual screen, against the simulated providers.

python docs/screenshots/make.py [NAME...]      needs Debian's xvfb, xterm, imagemagick, xdotool and chromium
"""

import asyncio
import base64
import contextlib
import os
import shutil
import signal
import subprocess
import sys
import tempfile
import time
from pathlib import Path

from agouti.standins import serve
from agouti.standins.images import packet

HERE = Path(__file__).parent
sys.path.insert(0, str(HERE.parent.parent))
EXAMPLES = HERE.parent.parent / "examples"
BENCHMARKS = HERE.parent.parent / "benchmarks"
SIZE = "1280x800"

# Pictures that need more lines than usual: smaller letters.
SMALL = {"demo"}
# Typed into a program that is running: text, and seconds for its answer.
TYPED = {
    "talk": [
        ("When do peas go in?\n", 2),
        ("?image kale.png\n", 1),
        ("What does this packet say?\n", 2),
        ("How many days until the last frost at Marsh Lane?\n", 2),
        ("?\n", 1),
        ("?undo\n", 1),
        ("And what follows the potatoes, ", 1),
    ],
}
# Taken of a page or a figure that the lines make, not of the terminal.
MADE = {
    "compare-page": "compared.html",
    "compare-figure": "compared.png",
    "batch-figure": "batch.png",
    "usage-page": "usage.html",
    "relay-page": "http://127.0.0.1:8310/",
}
# name: what is typed into the shell, line by line; a line that begins with @ is not shown
PASTED = """\
curl ADDRESS/chat/completions \\
  -H "Content-Type: application/json" \\
  -H "x-orchard-key: or-51c2-marsh-lane-demo" \\
  -H "x-orchard-version: 2026-03-01" -H "x-project: seed-library" \\
  -d '{"model": "pippin-1", "messages": [{"role": "user", "content": "Hello"}], "temperature": 0.2}'
"""
NOTE = """\
{"title": "Germination", "type": "object", "required": ["crop", "sown", "up"], "properties": {
  "crop": {"type": "string"}, "sown": {"type": "integer"}, "up": {"type": "integer"}}}
"""
PACKET = """\
{"type": "object", "required": ["variety", "seeds"], "properties": {
  "variety": {"type": "string"}, "seeds": {"type": "integer"}}}
"""
SHOTS: dict[str, list[str]] = {
    "demo": ["agouti demo"],
    "adopt": [
        "@cp agouti.toml ../all.toml; rm agouti.toml; unset ORCHARD_KEY",
        "cat pasted.txt",
        "agouti adopt --from pasted.txt --provider orchard --label almanac --write",
        "ls -la .env",
        "agouti check",
        'agouti ask almanac "When do peas go in?"',
    ],
    "check": [
        "@sed -i s/quill-large/quill-lagre/ agouti.toml; unset KIOSK_KEY; export KIOSK_KEYS=x",
        "agouti check almanac shed orchard ferry lock kiosk toll",
    ],
    "explain": [
        # A persona, made on the spot.
        '@printf \'\\n[models.kids]\\nextends = "almanac"\\nsystem = "You explain gardening to a ten-year-old."\\n\' >> agouti.toml',
        "@export AGOUTI__MODELS__KIDS__PARAMETERS__MAX_TOKENS=200",
        'agouti explain kids "When do peas go in?"',
    ],
    "fill": [
        "cat note.json",
        'agouti fill almanac note.json "Kale, sown 4 March: 18 of 24 up by the 15th."',
        "agouti fill almanac note.json --rows notes.txt --out notes.csv",
        "cat notes.csv",
        "agouti fill almanac packet.json --image kale.png",
        'agouti fill quill-large+prose@northbank note.json "Kale, sown 4 March."',
    ],
    "embed": [
        "head -n 3 catalogue.csv",
        'agouti embed finder catalogue.csv --column description --near "a climbing bean for a sunny wall" -k 3',
        'agouti embed finder catalogue.csv --column description --near "what stands the frost" -k 1 --json',
        "agouti embed finder catalogue.csv --out catalogue.parquet",
        'agouti ask almanac "Write a function for the days to the frost." --whole --save-code code',
        "agouti embed almanac catalogue.csv --near frost",
    ],
    "talk": [
        '@printf \'\\n[models.helper]\\nextends = "almanac"\\ntools = ["shelf:days_to_frost"]\\ncontext = 32768\\n\' >> agouti.toml',
        '@printf \'def days_to_frost(place: str) -> int:\\n    """Days until the last frost."""\\n    return 17\\n\' > shelf.py',
        "agouti talk helper --save talk.jsonl",
    ],
    "models": [
        "@sed -i '/^.providers.lock/,$d' agouti.toml",
        "agouti models --sort price",
        "agouti models quill --min-context 16000",
        "agouti models quill --write --provider northbank",
        "sed -n '/^.models.almanac./,/^$/p' agouti.toml",
    ],
    "probe": [
        "agouti check --probe almanac --write",
        "agouti check --probe quill-large+lies=6@northbank | grep -v ' ok '",
    ],
    "compare": [
        "head -n 3 questions.txt",
        "agouti compare almanac almanac-local quill-small@northbank --prompts questions.txt --repeats 3 -t 0 -t 0.7 -t 1.2 "
        "--pattern 'sow|go in' --similarity finder --out compared.csv",
        'agouti compare almanac almanac-local "When do peas go in?" --contains March --judge almanac',
        'agouti compare almanac almanac "When do peas go in?"',
    ],
    "compare-page": [
        "agouti compare almanac almanac-local --prompts questions.txt --repeats 2 -t 0.7 --pattern 'sow|go in' --out compared.html",
    ],
    "compare-figure": [
        "agouti compare almanac quill-small@northbank almanac-local --prompts questions.txt --repeats 3 --out compared.png",
    ],
    "usage": [
        "@printf '\\n[ledger]\\nstore = \"usage.sqlite\"\\n' >> agouti.toml",
        "@agouti compare almanac almanac-local quill-small@northbank --prompts questions.txt --repeats 4 >/dev/null 2>&1",
        "@agouti ask quill-large+status=503x2@northbank 'Peas?' >/dev/null 2>&1",
        "@agouti embed finder catalogue.csv --column description --near frost >/dev/null 2>&1",
        "agouti usage",
        "agouti usage --by label",
        "agouti usage --by provider --json | head -n 14",
        "agouti usage --by colour",
    ],
    "batch": [
        '@printf \'{"title": "Note", "type": "object", "required": ["crop", "up"], "properties": '
        '{"crop": {"type": "string"}, "up": {"type": "integer"}}}\' > note.json',
        "head -n 2 notes.txt",
        'agouti batch almanac notes.txt --prompt "How did it go, in one word? {text}" -n 8 --plan',
        'agouti batch almanac notes.txt --prompt "How did it go, in one word? {text}" -n 8 --out words.jsonl --limit 2',
        'agouti batch almanac notes.txt --prompt "How did it go, in one word? {text}" -n 8 --out words.jsonl',
        "head -n 1 words.jsonl",
        "agouti batch almanac notes.txt --form note.json --out records.csv --deferred",
        "head -n 3 records.csv",
        'agouti batch almanac notes.txt --prompt "In one sentence: {text}" --out words.jsonl',
        'agouti batch almanac catalogue.csv --prompt "Sort {packets}" --out sorted.jsonl',
    ],
    "relay": [
        "agouti relay token newsletter --labels almanac,almanac-local --requests-per-minute 5 --budget 5 --expires 90d > token",
        "agouti relay token",
        "agouti relay --port 8310 2>relay.log &",
        "@echo $! > ../relay.pid; sleep 4; export AGOUTI_TOKEN=$(cat token); export RELAY=http://127.0.0.1:8310/v1",
        """curl -s $RELAY/messages -H "x-api-key: $AGOUTI_TOKEN" -d '{"model": "almanac", "max_tokens": 12, """
        """"messages": [{"role": "user", "content": "When do peas go in?"}]}'; echo""",
        """curl -s $RELAY/responses -H "x-api-key: $AGOUTI_TOKEN" -d '{"model": "almanak", "input": "Peas?"}'; echo""",
        """curl -s $RELAY/models -H "x-api-key: wrong"; echo""",
        "node other_languages/stream.mjs almanac-local",
        "node other_languages/tools.mjs almanac",
        "agouti explain almanac --settings --relay 127.0.0.1:8310",
        "node other_languages/tools.mjs almanac",
        "kill -TERM $(cat ../relay.pid); wait; cat relay.log",
    ],
    "relay-page": [
        "@printf '\\n[ledger]\\nstore = \"usage.sqlite\"\\n' >> agouti.toml",
        "@sed -i '/^name = .quill-large/a context = 32000' agouti.toml",
        "agouti relay --port 8310 &",
        "@echo $! > ../relay.pid; sleep 4; export RELAY=http://127.0.0.1:8310/v1",
        "@for n in 1 2 3 4 5 6; do for label in almanac almanac-local narrow-3@canal; do sh other_languages/curl.sh $label; done; done",
        """@curl -s $RELAY/messages -d '{"model": "envelope-2@letterbox", "max_tokens": 12, "messages": [{"role": "user", """
        """"content": "Peas?"}]}'""",
        '@curl -s $RELAY/embeddings -d \'{"model": "finder", "input": ["peas", "kale"]}\' > /dev/null',
        "@sh other_languages/curl.sh almanak; sh other_languages/curl.sh loam-2b+status=503@shed",
        "@sleep 1",
    ],
    "batch-figure": [f"{sys.executable} {BENCHMARKS}/batch_load.py --rows 20000 --figure batch.png"],
    "usage-page": [f"{sys.executable} {EXAMPLES}/13_a_month_of_usage.py ."],
    "ask": [
        'agouti ask almanac "When do broad beans go in?"',
        "echo 'Plan my spring bed.' | agouti ask almanac-local --max-tokens 12",
        'agouti ask almanac "When does garlic go in?" --json | head -n 14',
        'agouti ask almanak "When does garlic go in?"',
        'NORTHBANK_KEY= NORTHBANK_TOKEN=x agouti ask almanac "When does garlic go in?"',
    ],
}


def main() -> None:
    """Make all of them, or those that are named."""
    missing = [tool for tool in ("Xvfb", "xterm", "import", "xdotool", "chromium") if shutil.which(tool) is None]
    if missing:
        sys.exit(f"not installed: {', '.join(missing)} (Debian: xvfb xterm imagemagick xdotool chromium)")
    display = ":97"
    screen = subprocess.Popen(["Xvfb", display, "-screen", "0", f"{SIZE}x24"], stderr=subprocess.DEVNULL)
    try:
        time.sleep(1)
        for name in sys.argv[1:] or SHOTS:
            shoot(name, SHOTS[name], display)
            print(f"{name}.png")
    finally:
        screen.terminate()
        screen.wait()


def shoot(name: str, lines: list[str], display: str) -> None:
    """Type the lines into a terminal window, take a picture when they are done."""
    with tempfile.TemporaryDirectory() as scratch, serve(pace=0.002) as served:
        folder = Path(scratch, "marsh-lane")
        folder.mkdir()
        others = [served.entry(label) for label in served.labels if label not in ("northbank", "shed")]
        (folder / "agouti.toml").write_text("\n".join([served.toml, *others]))
        (folder / "pasted.txt").write_text(PASTED.replace("ADDRESS", served.address("orchard")))
        for data in (HERE.parent.parent / "examples" / "data").iterdir():
            shutil.copy(data, folder)
        shutil.copytree(EXAMPLES / "other_languages", folder / "other_languages")
        shutil.copy(packet("kale"), folder)
        (folder / "note.json").write_text(NOTE)
        (folder / "packet.json").write_text(PACKET)
        script = "clear\n"
        for line in lines:
            if line.startswith("@"):
                script += f"{line[1:]}\n"
                continue
            quoted = line.replace("'", "'\\''")
            script += f"printf '\\033[1;32m$\\033[0m %s\\n' '{quoted}'\n{line}\necho\n"
        Path(scratch, "typed").write_text(script + "touch ../done\nsleep 60\n")
        environment = {
            **os.environ,
            **served.environment,
            "DISPLAY": display,
            "PATH": f"{Path(sys.executable).parent}:{os.environ['PATH']}",
            "XDG_CONFIG_HOME": scratch,
            "XDG_CACHE_HOME": scratch,
            "PROMPT_TOOLKIT_NO_CPR": "1",
            "PS1": "$ ",
        }
        look = [
            "-fa",
            "DejaVu Sans Mono",
            "-fs",
            "8" if name in SMALL else "10",
            "-bg",
            "#14181d",
            "-fg",
            "#dfe3e8",
            "-b",
            "12",
            "+sb",
            "-bw",
            "0",
        ]
        window = subprocess.Popen(
            ["xterm", *look, "-geometry", "180x55+0+0" if name in SMALL else "156x46+0+0", "-e", "bash", "../typed"],
            cwd=folder,
            env=environment,
        )
        try:
            for text, seconds in TYPED.get(name, ()):
                time.sleep(3 if text == TYPED[name][0][0] else 0)
                subprocess.run(["xdotool", "type", "--delay", "5", text], env=environment, check=True)
                time.sleep(seconds)
            until = time.monotonic() + (0 if name in TYPED else 300)
            while not Path(scratch, "done").exists() and time.monotonic() < until:
                time.sleep(0.1)
            time.sleep(0.5)
            target = HERE / f"{name}.png"
            if name in MADE:
                made = MADE[name]
                draw(made if "://" in made else str(folder / made), target)
                return
            subprocess.run(
                ["import", "-display", display, "-window", "root", "-depth", "8", "-colors", "64", str(target)],
                check=True,
            )
        finally:
            window.terminate()
            window.wait()
            left = Path(scratch, "relay.pid")
            if left.exists():
                with contextlib.suppress(ProcessLookupError):
                    os.kill(int(left.read_text()), signal.SIGTERM)


def draw(made: str, target: Path) -> None:
    """The picture of a page, as a browser shows it, or of a figure."""
    if made.endswith(".png"):
        shutil.copy(made, target)
        return
    from tests.relay.browser import opened

    async def shoot_page() -> bytes:
        with tempfile.TemporaryDirectory() as profile:
            async with opened(Path(profile), made if "://" in made else Path(made).as_uri()) as page:
                wide, high = (int(each) for each in SIZE.split("x"))
                await page.tell(
                    "Emulation.setDeviceMetricsOverride", width=wide, height=high, deviceScaleFactor=1, mobile=False
                )
                await asyncio.sleep(1.5)
                shot = await page.tell("Page.captureScreenshot", format="png")
                return base64.b64decode(shot["data"])

    target.write_bytes(asyncio.run(shoot_page()))
    subprocess.run(["mogrify", "-depth", "8", "-colors", "64", str(target)], check=True)


if __name__ == "__main__":
    main()
