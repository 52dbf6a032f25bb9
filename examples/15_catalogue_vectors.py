"""A catalogue's vectors, kept in a file and searched without asking for them again.

Run it against the simulated providers:   python examples/15_catalogue_vectors.py
"""

import csv
import tempfile
from contextlib import chdir
from pathlib import Path

import agouti
import agouti.standins

CATALOGUE = Path(__file__).parent / "data" / "catalogue.csv"
OUT = Path("catalogue.parquet")

with (
    agouti.standins.serve() as served,
    agouti.Client(served.config) as client,
    tempfile.TemporaryDirectory() as folder,
    chdir(folder),
):
    made = agouti.batch(client, "finder", CATALOGUE, column="description", embed=True, out=OUT)
    print(f"{made.done + made.already_done} vectors in {OUT}")
    shelf = agouti.Embeddings.load(OUT)
    with CATALOGUE.open(newline="") as file:
        names = [row["packet"] for row in csv.DictReader(file)]
    for question in ("what stands the frost", "something for the greenhouse"):
        [near] = shelf.near(client.embed("finder", question), 1)
        print(f"{question}: {names[near.index]} ({near.score:.2f})")
    again = agouti.batch(client, "finder", CATALOGUE, column="description", embed=True, out=OUT)
    print(f"asked again: {again.done}")
