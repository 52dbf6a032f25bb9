"""Secrets: values that can be used but not shown.

`Secret` is what the library hands around: it must be asked for its value. `SecretText`
is what finally goes into a header: HTTP libraries need a real string, so it is one, but whatever
prints it (``repr``, ``str``, ``format``, a traceback with locals) gets the mask. `Environment` is
a set of variables, any of which may be a key.

    >>> key = Secret("sk-123")
    >>> print(key, [key], f"{key}")
    *** [Secret('***')] ***
    >>> key.reveal()
    'sk-123'
"""

import os
from collections.abc import Iterator, Mapping
from typing import Final

from ..errors import CredentialMissing

MASK: Final = "***"


class Secret:
    """A key or token. Equal to another of the same value; pickled as its mask, never as its value."""

    __slots__ = ("_value",)

    def __init__(self, value: str) -> None:
        self._value: str | None = value

    def reveal(self) -> str:
        """The value itself.

        Raises:
            CredentialMissing: this secret came out of a pickle, which carries the mask only.
        """
        if self._value is None:
            raise CredentialMissing(
                "this key was masked when it was pickled",
                hint="Name where the key lives (an environment variable, a file) instead of passing its value.",
            )
        return self._value

    def __repr__(self) -> str:
        return f"Secret('{MASK}')"

    def __str__(self) -> str:
        return MASK

    def __eq__(self, other: object) -> bool:
        return isinstance(other, Secret) and other._value == self._value

    def __hash__(self) -> int:
        return hash((Secret, self._value))

    def __format__(self, spec: str) -> str:
        return format(MASK, spec)

    def __copy__(self) -> "Secret":
        return self

    def __deepcopy__(self, _: object) -> "Secret":
        return self  # a copy stays in this process: only a pickle may leave it

    def __reduce__(self) -> "tuple[object, tuple[()]]":
        return _masked, ()


def _masked() -> Secret:
    secret = Secret(MASK)
    secret._value = None
    return secret


class SecretText(str):
    """Text with a secret in it, for the one place that must have a real string.

    ``encode`` and ``join`` see the text; everything that prints sees the mask.
    """

    __slots__ = ()

    def reveal(self) -> str:
        """The plain text."""
        return "".join((self,))

    def __repr__(self) -> str:
        return f"'{MASK}'"

    def __str__(self) -> str:
        return MASK

    def __format__(self, spec: str) -> str:
        return format(MASK, spec)

    def __reduce__(self) -> "tuple[object, tuple[str]]":
        return str, (MASK,)


class Environment(Mapping[str, str]):
    """Variables. Prints as their number; a pickle of it stands for those of the process that unpickles it.

    Args:
        variables: those of the process.
        overrides: those of a file, for names that the process leaves out or empty.
        file: that file.
        remark: what is wrong with it, for whoever misses a variable.
    """

    __slots__ = ("_overrides", "_variables", "file", "remark")

    def __init__(
        self, variables: Mapping[str, str], overrides: Mapping[str, str] | None = None, file: str = "", remark: str = ""
    ) -> None:
        self._overrides = {name: value for name, value in (overrides or {}).items() if not variables.get(name)}
        self._variables = {**variables, **self._overrides} if self._overrides else variables
        self.file = file
        self.remark = remark

    def source(self, name: str) -> str:
        """Where a variable comes from, in words."""
        return self.file if name in self._overrides else "environment"

    def __getitem__(self, name: str) -> str:
        return self._variables[name]

    def __iter__(self) -> Iterator[str]:
        return iter(self._variables)

    def __len__(self) -> int:
        return len(self._variables)

    def __repr__(self) -> str:
        return f"Environment({len(self)} variables)"

    def __copy__(self) -> "Environment":
        return self

    def __deepcopy__(self, _: object) -> "Environment":
        return self  # a copy stays in this process: only a pickle may leave it

    def __reduce__(self) -> "tuple[object, tuple[()]]":
        return _of_this_process, ()


def _of_this_process() -> Environment:
    return Environment(os.environ)


_TELLING = ("key", "token", "secret", "auth", "password", "cookie", "credential", "session")
# These are told as words only: they stand in many others.
_SECRET_NAMES = frozenset({"sig", "signature", "pass", "pwd", "jwt", "sid", "appid", "bearer"})
_COUNTS = ("tokens", "token-type", "token_type", "tokenizer", "author")


def looks_secret(name: str) -> bool:
    """Whether a header or parameter of that name is likely to hold a secret.

    >>> looks_secret("x-api-key"), looks_secret("X-Nb-Pass"), looks_secret("x-club"), looks_secret("max_tokens")
    (True, True, False, False)
    """
    folded = name.lower()
    for count in _COUNTS:
        folded = folded.replace(count, "author" if count == "author" and "authoriz" in folded else "")
    return any(sign in folded for sign in _TELLING) or not _SECRET_NAMES.isdisjoint(folded.replace("_", "-").split("-"))
