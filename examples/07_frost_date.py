"""A conversation in which the model asks for the frost date; and code that it writes, saved into files.

Run it against the simulated providers:   python examples/07_frost_date.py
"""

import datetime
import tempfile
from pathlib import Path

import agouti
import agouti.standins

FROST = {"Marsh Lane": datetime.date(2027, 5, 12), "Fen End": datetime.date(2027, 5, 20)}


def days_to_frost(place: str = "Marsh Lane") -> int:
    """Days until the last frost of the year is expected.

    Args:
        place: name of the garden.
    """
    return (FROST.get(place, FROST["Marsh Lane"]) - datetime.date(2027, 5, 1)).days


with agouti.standins.serve() as served, agouti.Client(served.config) as client:
    talk = client.conversation("almanac", tools=[days_to_frost])
    print(talk.say("How many days until the last frost at Marsh Lane?"))
    print(talk.say("Then when do tomatoes go out?"))
    for message in talk.messages:
        calls = [f"{call.function.name}({call.function.arguments})" for call in message.tool_calls or ()]
        print(f"  {message.role:9} {message.content or calls}")

    with tempfile.TemporaryDirectory() as folder:
        for block in client.ask("almanac", "Write a function for the days to the frost.").code_blocks:
            print(block.save(folder).name, Path(folder, block.file_name).stat().st_size, "bytes")
