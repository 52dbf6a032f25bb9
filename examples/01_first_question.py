"""Ask one question and print the answer.

Run it against the simulated providers:   python examples/01_first_question.py
With a configuration of your own, `agouti.Client()` finds it, and the two lines that start them go.
"""

import agouti
import agouti.standins

with agouti.standins.serve() as served, agouti.Client(served.config) as client:
    reply = client.ask("almanac", "When do broad beans go in?")
    print(reply)
    print(f"-- {reply.model} at {reply.provider}, {reply.usage.output_tokens} tokens, {reply.cost:.6f} USD")
