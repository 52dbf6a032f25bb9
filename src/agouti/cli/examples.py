"""Two calls of each command, for its help."""

EXAMPLES: dict[str, tuple[str, str]] = {
    "demo": ("agouti demo", "agouti demo > demo.txt"),
    "standins": ("agouti standins", "agouti standins --port 8080"),
    "adopt": ("agouti adopt < pasted.txt", "agouti adopt --write --label almanac < pasted.txt"),
    "check": ("agouti check", "agouti check almanac --probe"),
    "models": ("agouti models", "agouti models --provider northbank --write"),
    "explain": ('agouti explain almanac "When do peas go in?"', "agouti explain almanac --settings"),
    "usage": ("agouti usage --this-month", "agouti usage --by model,day --out usage.csv"),
    "secret": ("agouti secret put northbank", "agouti secret where northbank"),
    "secret put": ("agouti secret put northbank", "agouti secret put northbank < key.txt"),
    "secret where": ("agouti secret where northbank", "agouti secret where shed"),
    "secret remove": ("agouti secret remove northbank", "agouti secret remove shed"),
    "ask": ('agouti ask almanac "When do peas go in?"', "agouti ask almanac --image packet.png < question.txt"),
    "talk": ("agouti talk almanac --save talk.jsonl", "agouti talk almanac --resume talk.jsonl"),
    "compare": (
        'agouti compare almanac clerk "When do peas go in?"',
        "agouti compare almanac clerk --prompts asked.csv --column question --expect answer --out page.html",
    ),
    "fill": ("agouti fill almanac form.json < note.txt", "agouti fill almanac shelf:Report --rows notes.csv"),
    "batch": (
        'agouti batch almanac notes.csv --prompt "Sort: {note}" --out sorted.csv',
        'agouti batch almanac notes.csv --prompt "Sort: {note}" --plan',
    ),
    "embed": ("agouti embed vectors notes.txt --out notes.npz", 'agouti embed vectors notes.txt --near "late frost"'),
    "relay": ("agouti relay", "agouti relay --port 8400 --workers 4"),
    "relay token": ("agouti relay token club --labels almanac --budget 5", "agouti relay token"),
    "schema": ("agouti schema", "agouti schema > agouti.schema.json"),
}
"""By the words that call it."""


def epilog(path: str) -> str:
    """The end of a command's help; empty where it has no examples."""
    calls = EXAMPLES.get(path)
    return "" if calls is None else "\b\nExamples:\n" + "\n".join(f"  {call}" for call in calls)
