"""Names that look alike, for error messages."""

from collections.abc import Iterable, Mapping


def similar_names(name: str, known: Iterable[str], limit: int = 3) -> tuple[str, ...]:
    """The known names most like ``name``, nearest first; those that contain it count as near.

    >>> similar_names("almanak", ["almanac", "clerk", "almanac-kids"])
    ('almanac', 'almanac-kids')
    """
    import difflib  # loads re and more: only needed once something is wrong

    folded: dict[str, str] = {}
    for each in known:
        folded.setdefault(each.lower(), each)
    folded_name = name.lower()
    matches = difflib.get_close_matches(folded_name, folded, n=limit, cutoff=0.6)
    matches += [each for each in folded if each not in matches and _contains(folded_name, each)]
    return tuple(folded[each] for each in matches[:limit])


def _contains(one: str, second: str) -> bool:
    return min(len(one), len(second)) > 2 and (one in second or second in one)


def near_hint(name: str, known: Iterable[str], noun: str, meant: Mapping[str, str] | None = None) -> str:
    """One sentence that names the near ones, or all where there are few.

    Args:
        meant: next steps for names that are written often (see `core.near_misses`); they come first.

    >>> near_hint("almanak", ["almanac", "clerk"], "label")
    'Did you mean almanac?'
    >>> near_hint("x", ["almanac", "clerk"], "label")
    'Known labels: almanac, clerk.'
    """
    if meant is not None and (step := meant.get(name.lower())) is not None:
        return step
    names = sorted(set(known))
    close = similar_names(name, names)
    if close:
        return f"Did you mean {' or '.join(close)}?"
    if not names:
        return f"There is no {noun} at all yet."
    listed = ", ".join(names[:12]) + (f" and {len(names) - 12} more" if len(names) > 12 else "")
    return f"Known {noun}s: {listed}."
