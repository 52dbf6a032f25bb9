"""A catalogue of seed packets, searched by what growers mean.

Run it against the simulated providers:   python examples/06_catalogue_search.py
"""

import csv
from pathlib import Path

import agouti
import agouti.standins

with Path(__file__).parent.joinpath("data", "catalogue.csv").open(newline="") as file:
    PACKETS = list(csv.DictReader(file))

with agouti.standins.serve() as served, agouti.Client(served.config) as client:
    shelf = client.embed("finder", [packet["description"] for packet in PACKETS])
    print(shelf)
    for question in ("something that stands frost", "a climbing bean for a sunny wall", "for a greenhouse"):
        print(f"\n{question}?")
        for near in shelf.near(client.embed("finder", question), 2):
            print(f"  {near.score:.2f}  {PACKETS[near.index]['packet']}: {near.text}")
