"""Make the tables of parameters and media in dialects.md from the dialects themselves.

python docs/parameters.py           writes the tables
"""

import re
from collections.abc import Iterator
from pathlib import Path
from typing import Any

from agouti.core.canonical.chat import Message, Request
from agouti.core.canonical.parameters import PARAMETERS
from agouti.core.errors import RequestError
from agouti.dialects.base import Dialect
from agouti.dialects.registry import dialect, names

GUIDE = Path(__file__).parent / "dialects.md"
_MESSAGES = (Message("system", "Brief."), Message("user", "Hi"))
_WITH_TOOLS = ("tool_choice", "parallel_tool_calls")
_MEDIA = ("image", "file", "audio")


def body(made: Dialect, parameters: dict[str, Any], *, stream: bool) -> dict[str, Any]:
    """The body of a request with these parameters."""
    return made.encode_chat(Request("m", _MESSAGES, parameters, stream=stream)).body or {}


def changed(before: Any, after: Any, path: str = "") -> Iterator[str]:
    """The places that hold something else, or something new."""
    if isinstance(before, dict) and isinstance(after, dict):
        for name, value in after.items():
            yield from changed(before.get(name), value, f"{path}.{name}" if path else name)
    elif isinstance(after, dict) and after and path.count(".") < 1:
        for name, value in after.items():
            yield from changed(None, value, f"{path}.{name}")
    elif before != after:
        yield path


def cell(made: Dialect, name: str) -> str:
    """What becomes of a parameter: passed as it is, its other name, or an error."""
    abilities = made.abilities
    if name in abilities.lacks or (abilities.takes is not None and name not in abilities.takes):
        # One cap has two names; how chunks look is nothing that a model is asked.
        if name == "max_completion_tokens" and "max_tokens" in (abilities.takes or ()):
            return cell(made, "max_tokens").replace("passed", "`max_tokens`")
        return "dropped" if name == "stream_options" else "error"
    others = {"tools": PARAMETERS["tools"].sample} if name in _WITH_TOOLS else {}
    stream = name == "stream_options"
    try:
        after = body(made, {**others, name: PARAMETERS[name].sample}, stream=stream)
    except RequestError:
        return "error"
    places = list(changed(body(made, others, stream=stream), after))
    if places == [name]:
        return "passed"
    outer = {place.partition(".")[0] for place in places}
    if outer == {name} or not places:
        return "passed"
    return ", ".join(f"`{place}`" for place in dict.fromkeys(places))


def nothing(name: str) -> str:
    """The value that asks for nothing."""
    rule = PARAMETERS[name]
    value = rule.off if rule.neutral is None else rule.neutral
    if value is None:
        return ""
    shown = {"True": "true", "False": "false", "{'type': 'text'}": "type text"}.get(str(value), str(value))
    return f"{shown} (where it is lacking)" if rule.neutral is None else shown


def parameters() -> str:
    """A row for each parameter, a column for each dialect."""
    made = {name: dialect(name) for name in names()}
    head = ["parameter", "asks for nothing", *[f"`{name}`" for name in made]]
    lines = ["| " + " | ".join(head) + " |", "|" + "---|" * len(head)]
    for name in PARAMETERS:
        row = [f"`{name}`", nothing(name), *[cell(each, name) for each in made.values()]]
        lines += ["| " + " | ".join(row) + " |"]
    return "\n".join(lines) + "\n"


def media() -> str:
    """A row for each kind of media, a column for each dialect."""
    made = {name: dialect(name) for name in names()}
    head = ["in a prompt", *[f"`{name}`" for name in made]]
    lines = ["| " + " | ".join(head) + " |", "|" + "---|" * len(head)]
    for kind in _MEDIA:
        row = []
        for each in made.values():
            abilities = each.abilities
            by_address = {"image": abilities.image_addresses, "file": abilities.file_addresses}.get(kind, False)
            words = "yes, also by address" if by_address else "yes"
            text = "text files, as words" if kind == "file" else "error"
            row.append(words if kind in abilities.inputs else text)
        lines.append("| " + " | ".join([kind, *row]) + " |")
    return "\n".join(lines) + "\n"


TABLES = {"parameters": parameters, "media": media}


def written(text: str) -> str:
    """The guide with its tables made anew."""
    for name, table in TABLES.items():
        start, end = f"<!-- {name}: made by docs/parameters.py -->\n", f"<!-- end of {name} -->"
        pattern = re.compile(f"{re.escape(start)}.*?{re.escape(end)}", re.DOTALL)
        made = start + table() + end
        text = pattern.sub(lambda _, made=made: made, text)  # type: ignore[misc]
    return text


if __name__ == "__main__":
    GUIDE.write_text(written(GUIDE.read_text()))
