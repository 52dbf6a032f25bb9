"""A newsletter for every grower, and not a cent more than agreed: what is left is written by the shelf's own model.

Run it against the simulated providers:   python examples/12_newsletter.py
"""

import agouti
import agouti.standins

GROWERS = ["Ida", "Bo", "Marit", "Tomas", "Wren", "Yusuf", "Lotte", "Pim", "Anouk", "Sol", "Edda", "Joris"]
BUDGET = 0.0003

with agouti.standins.serve() as served, agouti.Client(served.config) as client:
    newsletter = client.tagged(feature="newsletter")
    letters: dict[str, agouti.Reply] = {}
    prompt = "Write two friendly sentences to {} about what to sow in March."
    with newsletter.budget(BUDGET, "USD") as budget:
        try:
            for grower in GROWERS:
                letters[grower] = newsletter.ask("almanac", prompt.format(grower), max_tokens=60)
        except agouti.BudgetExceeded as error:
            print(error.message)
    paid = list(letters)
    for grower in GROWERS[len(paid) :]:
        letters[grower] = newsletter.ask("almanac-local", prompt.format(grower), max_tokens=60)
    print(f"{len(letters)} letters; the paid model has written to {', '.join(paid)}")
    print(f"spent {budget.spent:.6f} of {BUDGET:.6f} USD")
    print(f"Dear Ida, {letters['Ida']}")
