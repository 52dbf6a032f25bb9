"""Three models over ten growers' questions at three temperatures: which is fast, which is cheap, which is steady?

Run it against the simulated providers:   python examples/11_three_models.py
"""

import tempfile
from contextlib import chdir
from pathlib import Path

import agouti
import agouti.standins

QUESTIONS = (Path(__file__).parent / "data" / "questions.txt").read_text().splitlines()
MODELS = ["almanac", "almanac-local", "quill-small@northbank"]


def advises(reply: agouti.Reply) -> bool:
    """Whether an answer says what to do, and does not run on."""
    return any(word in reply.text for word in ("sow", "go in", "Sow", "plant")) and len(reply.text) < 300


with (
    agouti.standins.serve() as served,
    agouti.Client(served.config) as client,
    tempfile.TemporaryDirectory() as folder,
    chdir(folder),
):
    result = agouti.compare(
        client,
        MODELS,
        QUESTIONS,
        repeats=2,
        parameters=[{"temperature": warmth} for warmth in (0, 0.7, 1.2)],
        check=advises,
        similarity="finder",
        checkpoint="three-models.part.jsonl",
    )
    for row in result.summary:
        advice = row.checks["check"]
        alike = "" if row.similarity is None else f"{row.similarity:.2f} alike"
        print(f"{row.label:22} {row.parameters['temperature']:3}  {advice.value:4.0%} advise  {alike}")
    print(", ".join(f"{amount:.4f} {currency}" for currency, amount in result.cost.items()))
    result.save("three-models.html")
    result.figure("spread").savefig("spread.png")
    print(f"{len(result)} answers in three-models.html")
