"""The ``.env`` file: variables for this folder alone, values as they stand there."""

from pathlib import Path

from ..core.errors import ConfigError


def read_dotenv(path: Path) -> tuple[dict[str, str], str]:
    """The variables of a file, and what is wrong with it.

    ``${NAME}`` in a value stays what it is: a key may hold such letters.

    Raises:
        ConfigError: it cannot be read.
    """
    bad_lines: list[int] = []
    values = parsed(text_of_file(path), bad_lines)
    remark = f"line {bad_lines[0]} of {path.name} cannot be read: write NAME=value there" if bad_lines else ""
    return values, remark


def parsed(text: str, bad_lines: list[int] | None = None) -> dict[str, str]:
    """The variables of a text.

    Args:
        bad_lines: is told the numbers of the lines that cannot be read.
    """
    import io

    from dotenv.parser import parse_stream

    values: dict[str, str] = {}
    for binding in parse_stream(io.StringIO(text)):
        if binding.error and bad_lines is not None:
            bad_lines.append(binding.original.line)
        elif binding.key is not None:
            values[binding.key] = binding.value or ""
    return values


def text_of_file(path: Path) -> str:
    """The text of such a file, in whichever encoding it was saved.

    Raises:
        ConfigError: it cannot be read.
    """
    try:
        data = path.read_bytes()
    except OSError as error:
        raise ConfigError(
            f"{path} cannot be read ({error.strerror or error})", hint="Make it readable for you (chmod 600)."
        ) from None
    # What the redirection of some shells writes begins with the mark of UTF-16.
    encoding = "utf-16" if data[:2] in (b"\xff\xfe", b"\xfe\xff") else "utf-8-sig"
    try:
        return data.decode(encoding)
    except UnicodeDecodeError:
        raise ConfigError(f"{path} is not a text file", hint="Save it as UTF-8, with lines NAME=value.") from None
