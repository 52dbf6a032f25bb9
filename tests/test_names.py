"""Names in the code are names of things: how many are only a word of a sentence is counted, and may not grow."""

import ast
import re
from collections.abc import Iterator

from .test_package import SOURCE, sources

# A word that says a relation, an amount or a place fits everything, and so says nothing as the whole of a name.
WHOLE = frozenset(
    """told said says met made kept held holds given wanted begun began came comes come gone got left most least more other
    others whole rest place places turn turns way ways here there anew again who whose what why own alone apart aside behind
    below above beside besides further late soon seen sees looked look asked asks asking answering works worked this these
    near far so_far at_once nobody nothing anything whatever everything ours theirs mine into odd plain usual alike like
    word words wrong lacks lacking taken takes take puts goes lets gives means door purse streak singles spending hand
    handed tell tells spoken talking piece pieces stood bare canned shown mend among elsewhere otherwise""".split()  # noqa: SIM905
)
# These say nothing in a longer name either.
ANYWHERE = frozenset(
    """told said met begun came gone wanted held whoever whatever anew lateness purse streak flights singles door aside
    mended mending unwound unseen nobody beside besides handed lies spoken elsewhere otherwise taken kept looked cannot
    alike""".split()  # noqa: SIM905
)
TRADE = frozenset({"is_kept_alive", "keep_alive"})
PER_1000_LINES = 2.5


def bound(tree: ast.AST) -> Iterator[str]:
    """Every name that a module gives to something: functions, classes, parameters, variables and attributes."""
    for node in ast.walk(tree):
        if isinstance(node, (ast.FunctionDef, ast.AsyncFunctionDef, ast.ClassDef)):
            yield node.name
        elif isinstance(node, ast.arg):
            yield node.arg
        elif isinstance(node, ast.Name) and isinstance(node.ctx, ast.Store):
            yield node.id
        elif isinstance(node, ast.Attribute) and isinstance(node.ctx, ast.Store):
            yield node.attr


def says_nothing(name: str) -> bool:
    """
    >>> [says_nothing(each) for each in ("told", "_kept_rows", "LateAnswer", "request_log", "__other__")]
    [True, True, False, False, False]
    """
    bare = name.strip("_").lower()
    if not bare or bare in TRADE or (name.startswith("__") and name.endswith("__")):
        return False
    parts = re.sub(r"([a-z0-9])([A-Z])", r"\1_\2", name.strip("_")).lower().split("_")
    return bare in WHOLE or not ANYWHERE.isdisjoint(parts)


def test_names_are_names_of_things() -> None:
    files = [path for path in sources() if "standins" not in path.relative_to(SOURCE).parts]
    texts = {path: path.read_text(encoding="utf-8") for path in files}
    found = [
        f"{path.name}: {name}" for path, text in texts.items() for name in bound(ast.parse(text)) if says_nothing(name)
    ]
    assert 1000 * len(found) / sum(text.count("\n") for text in texts.values()) <= PER_1000_LINES, sorted(found)
    assert not [path for path in files if says_nothing(path.stem)]


def documented(text: str, section: str) -> list[str]:
    """The names that a section of a docstring describes."""
    found = re.search(rf"^{section}:\n((?:    .*\n?|\n)+)", text, re.MULTILINE)
    heads = re.findall(r"^    ((?:\*{0,2}\w+, )*\*{0,2}\w+):", found[1], re.MULTILINE) if found else []
    return [name.strip("*") for head in heads for name in head.split(", ")]


def parameters(node: ast.FunctionDef | ast.AsyncFunctionDef) -> set[str]:
    given = node.args
    every = [*given.posonlyargs, *given.args, *given.kwonlyargs, given.vararg, given.kwarg]
    return {each.arg for each in every if each is not None}


def test_docstrings_describe_what_is_there() -> None:
    """Attributes of a class or of what it inherits from; parameters, unless a function takes any."""
    classes = {
        node.name: node
        for path in sources()
        for node in ast.walk(ast.parse(path.read_text(encoding="utf-8")))
        if isinstance(node, ast.ClassDef)
    }

    def names_of(node: ast.ClassDef) -> set[str]:
        bases = {each.id for base in node.bases for each in ast.walk(base) if isinstance(each, ast.Name)} - {node.name}
        own = {*bound(node), *(each.attr for each in ast.walk(node) if isinstance(each, ast.Attribute))}
        return own.union(*(names_of(classes[each]) for each in bases if each in classes))

    missing: list[str] = []
    for path in sources():
        for node in ast.walk(ast.parse(path.read_text(encoding="utf-8"))):
            if isinstance(node, ast.ClassDef):
                text = ast.get_docstring(node) or ""
                start = [each for each in node.body if isinstance(each, ast.FunctionDef) and each.name == "__init__"]
                there = names_of(node) | {name for each in start for name in parameters(each)}
                named = [*documented(text, "Attributes"), *(documented(text, "Args") if start else [])]
            elif isinstance(node, (ast.FunctionDef, ast.AsyncFunctionDef)) and node.args.kwarg is None:
                there, named = parameters(node), documented(ast.get_docstring(node) or "", "Args")
            else:
                continue
            missing += [f"{path.name}: {node.name} has no {name}" for name in named if name not in there]
    assert missing == []
