"""A talk that is saved, gone on with by another model, forked, and kept within a small context window.

Run it against the simulated providers:   python examples/10_a_talk_kept.py
"""

import tempfile
from contextlib import chdir

import msgspec

import agouti
import agouti.standins

with agouti.standins.serve() as served, tempfile.TemporaryDirectory() as folder, chdir(folder):
    with agouti.Client(served.config) as client:
        talk = client.conversation("almanac", system="You answer growers in two sentences.", temperature=0.2)
        talk.say("When do peas go in?")
        talk.say("And garlic?")
        talk.save("talk.jsonl")
        print(f"saved: {len(talk.messages)} messages, {talk.usage.total_tokens} tokens, {talk.cost:.6f} USD")

    # Another day, another program, and the model in the shed, whose window is small.
    local = msgspec.structs.replace(served.config.models["almanac-local"], context=300)
    config = msgspec.structs.replace(served.config, models={local.label: local})
    with agouti.Client(config) as client:
        talk = client.conversation("almanac-local", messages="talk.jsonl", on_overflow="drop_oldest", max_tokens=40)
        aside = talk.fork()
        print(f"aside: {aside.say('Only in a word: do they need fleece?').text[:50]}...")
        for month in ("March", "April", "May", "June", "July"):
            reply = talk.say(f"And what is sown in {month}?")
            print(f"{month}: {reply.usage.input_tokens} tokens sent, {len(talk.dropped)} messages left out")
        print(f"all {len(talk.messages)} messages are still there")
