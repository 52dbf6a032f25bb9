"""Wall time of fresh processes: importing Agouti, and the first answer with it and by hand.

python benchmarks/fresh_process.py [--rounds N]
"""

import compileall
import pathlib
import statistics
import subprocess
import sys
import time

import canned
import measure

import agouti

BY_HAND = """
import json, sys, urllib3
pool = urllib3.PoolManager()
body = {"model": "quill-large", "messages": [{"role": "user", "content": "When do broad beans go in?"}]}
reply = pool.request("POST", sys.argv[1] + "/chat/completions", body=json.dumps(body).encode(),
                     headers={"content-type": "application/json", "authorization": "Bearer k"})
print(json.loads(reply.data)["choices"][0]["message"]["content"])
"""
WITH_AGOUTI = """
import sys, agouti
config = {"providers": {"northbank": {"address": sys.argv[1], "key": {"env": "HOME"}}},
          "models": {"almanac": {"provider": "northbank", "name": "quill-large"}}}
with agouti.Client(config) as client:
    print(client.ask("almanac", "When do broad beans go in?"))
"""


def main() -> int:
    options = measure.parser(__doc__)
    options.add_argument("--rounds", type=int, default=25)
    given = options.parse_args()
    rounds = given.rounds
    # An installed package comes with its bytecode; a checkout may be run where none is written.
    compileall.compile_dir(pathlib.Path(agouti.__file__).parent, quiet=2)
    with canned.server() as base:
        scripts = {
            "bare interpreter": "pass",
            "import agouti": "import agouti",
            "first answer, urllib3 + json": BY_HAND,
            "first answer, Agouti": WITH_AGOUTI,
        }
        taken: dict[str, list[float]] = {name: [] for name in scripts}
        for _ in range(rounds):
            for name, script in scripts.items():
                before = time.perf_counter()
                subprocess.run([sys.executable, "-c", script, base], check=True, stdout=subprocess.DEVNULL)
                taken[name].append(time.perf_counter() - before)
    medians = {name: statistics.median(times) for name, times in taken.items()}
    floors = {"import agouti": "bare interpreter", "first answer, Agouti": "first answer, urllib3 + json"}
    bounds = measure.Bounds(judged=not given.smoke)
    print("Wall time of a fresh process")
    for name, value in medians.items():
        floor = floors.get(name)
        # Each against its floor of the same round: the machine's speed drifts.
        ratios = [mine / theirs for mine, theirs in zip(taken[name], taken[floor or name], strict=True)]
        ending = f"  {statistics.median(ratios):5.2f} x {floor}" if floor else ""
        print(f"  {name:30s} {value * 1e3:7.1f} ms{ending}")
        bounds.at_most(
            name, statistics.median(ratios), {"import agouti": 2.5, "first answer, Agouti": 2.0}.get(name, 1.0)
        )
    return bounds.code()


if __name__ == "__main__":
    sys.exit(main())
