"""Files of conversations: JSON Lines of OpenAI-compatible messages, below one header line with label and settings."""

import os
from collections.abc import Iterable, Mapping
from contextlib import nullcontext, suppress
from pathlib import Path
from typing import IO

import msgspec
from msgspec import Struct
from msgspec.structs import replace

from ..core.canonical.chat import Json, Message
from ..core.canonical.parameters import NAMES
from ..core.errors import RequestError
from ..core.messages.context_window import last_turn, whole_turns
from ..core.messages.messages import TURN_FIELD, message_json, message_of, turn_json
from ..runtime.atomic_files import Busy, opened_alone, replaced

FilePath = str | os.PathLike[str]

_HEADER = "conversation"
_VERSION = 1
_KNOWN = frozenset({"version", "label", "settings"})
# What a file may say of the turns to come: nothing of where requests go, and nothing that is code.
_SETTINGS = frozenset({"system", "examples", "variables", *NAMES} - {"tools"})
# Known, but nothing that a file may say: it is passed over.
_KNOWN_SETTINGS = _SETTINGS | frozenset(
    {"tools", "images", "files", "headers", "timeouts", "retries", "deadline", "extra", "tags"}
)


class ConversationFile(Struct, frozen=True, kw_only=True):
    """A conversation as a file has it.

    Attributes:
        label: the model that it was held with; empty where the file has no header.
        settings: the options of its turns: system text, blanks, examples, parameters.
        messages: what was said.
        remarks: what could not be read and was left out, with the lines.
        unknown: what the header has that nobody here knows; it is written again.
    """

    label: str
    settings: dict[str, Json]
    messages: list[Message]
    remarks: list[str]
    unknown: dict[str, Json] = {}


def read_conversation(path: FilePath) -> ConversationFile:
    """Read a file; lines that cannot be read are left out and told, the rest is kept.

    Raises:
        RequestError: the file cannot be read, or holds no message at all although something stands in it.
    """
    try:
        data = Path(path).read_bytes()
    except OSError as error:
        raise RequestError(
            f"{path} cannot be read ({error.strerror or error})", hint="Name a file that a conversation was saved to."
        ) from None
    header: dict[str, Json] | None = None
    messages: list[Message] = []
    remarks: list[str] = []
    for number, line in enumerate(data.removeprefix(b"\xef\xbb\xbf").split(b"\n"), 1):
        if not line.strip():
            continue
        try:
            value = msgspec.json.decode(line)
            if isinstance(value, dict) and "role" not in value and isinstance(value.get(_HEADER), dict):
                if header is not None:
                    raise RequestError("a second header stands there")
                header = value[_HEADER]
            else:
                messages.append(_read(value, number))
        except (msgspec.DecodeError, UnicodeDecodeError, RecursionError) as error:
            remarks.append(f"line {number} of {path} is no JSON and is left out ({error})")
        except RequestError as error:
            remarks.append(f"line {number} of {path} is no message and is left out ({error.message})")
    if remarks and not messages:
        raise RequestError(
            f"{path} is no conversation: {remarks[0].partition(' of ')[0]} cannot be read",
            hint="Each line is an OpenAI-compatible message in JSON; the first may be the header that save writes.",
        )
    messages, remarks = _repaired(messages, remarks, os.fspath(path), torn=bool(remarks) or header is not None)
    header = header or {}
    version = header.get("version", _VERSION)
    if version != _VERSION:
        raise RequestError(
            f"{path} is a conversation of version {str(version)[:20]}; this Agouti knows version {_VERSION}",
            hint="Update Agouti; the file is as it was.",
        )
    settings = header.get("settings")
    settings = settings if isinstance(settings, dict) else {}
    if "blanks" in settings:  # files of 0.2
        settings = {"variables" if name == "blanks" else name: value for name, value in settings.items()}
    known_settings = {name: value for name, value in settings.items() if name in _SETTINGS}
    unknown = {name: value for name, value in header.items() if name not in _KNOWN}
    if strange := {name: value for name, value in settings.items() if name not in _KNOWN_SETTINGS}:
        unknown["settings"] = strange
        remarks = [
            *remarks,
            f"the settings of {path} have {', '.join(strange)}, which nobody here knows: kept, not used",
        ]
    label = header.get("label")
    return ConversationFile(
        label=label if isinstance(label, str) else "",
        settings=known_settings,
        messages=messages,
        remarks=remarks,
        unknown=unknown,
    )


def _repaired(messages: list[Message], remarks: list[str], path: str, *, torn: bool) -> tuple[list[Message], list[str]]:
    """The messages that providers take: calls with their results, and no last turn without an answer."""
    known_settings, left_out = whole_turns(messages)
    if left_out:
        remarks = [*remarks, f"{left_out} tool messages of {path} have lost their other half and are left out"]
    if torn and known_settings and known_settings[-1].role == "user":
        known_settings = known_settings[: last_turn(known_settings)]
        remarks = [*remarks, f"the last turn of {path} has no answer and is left out"]
    return known_settings, remarks


def settings_to_keep(options: Mapping[str, Json]) -> dict[str, Json]:
    """Those options of a conversation that a file keeps; never headers, functions or anything secret."""
    return {name: value for name, value in options.items() if name in _SETTINGS and value is not None}


def lines_of(messages: Iterable[Message]) -> bytes:
    """Messages as lines."""
    return b"".join(_encode(_whole_json(message)) + b"\n" for message in messages)


def _whole_json(message: Message) -> dict[str, Json]:
    """A message with what only we know of it: the turn in its provider's own form, and that a tool failed."""
    body = message_json(replace(message, provider_turn=None))
    if message.provider_turn is not None:
        body[TURN_FIELD] = turn_json(message.provider_turn)
    if message.is_error:
        body["is_error"] = True
    return body


def _read(value: Json, number: int) -> Message:
    message = message_of(value, number)
    if "is_error" not in message.extra:
        return message
    return replace(message, extra={name: each for name, each in message.extra.items() if name != "is_error"})


def header_line(label: str, settings: Mapping[str, Json], unknown: Mapping[str, Json] | None = None) -> bytes:
    """The first line.

    Args:
        unknown: further fields; those in ``settings`` are further settings.
    """
    unknown = dict(unknown or {})
    further_settings = unknown.pop("settings", {})
    header = {"version": _VERSION, "label": label, "settings": {**further_settings, **settings}, **unknown}
    return _encode({_HEADER: header}) + b"\n"


def write_conversation(
    path: FilePath,
    label: str,
    settings: Mapping[str, Json],
    messages: Iterable[Message],
    *,
    unknown: Mapping[str, Json] | None = None,
) -> None:
    """Write a file whole; it is the old one or the new one at every moment.

    Args:
        unknown: what a header has that nobody here knows: it is kept.

    Raises:
        RequestError: it cannot be written; what was there is there still. Or it holds something else.
    """
    check_writable(path)
    file_path = Path(path)
    # A talk that is kept there would go on with what this has replaced.
    lock = lock_conversation(path) if file_path.is_file() else nullcontext()
    try:
        with lock, replaced(file_path) as file:
            file.write(header_line(label, settings, unknown))
            file.write(lines_of(messages))
    except OSError as error:
        raise _unwritable(path, error) from None


def check_writable(path: FilePath) -> None:
    """See that a conversation can be kept in a file, before anything is asked.

    Raises:
        RequestError: its folder is not there or cannot be written to, or the file holds something else.
    """
    path = Path(path)
    if path.exists() and path.stat().st_size and path.is_file():
        known_settings = read_conversation(path)
        if any(remark.startswith("line") for remark in known_settings.remarks):
            raise RequestError(
                f"{path} has lines that cannot be read, and they would be lost: {known_settings.remarks[0]}",
                hint="Name another file, or take those lines out.",
            )
    if not path.parent.is_dir() or not os.access(path if path.exists() else path.parent, os.W_OK) or path.is_dir():
        raise RequestError(f"{path} cannot be written", hint="Name a file in a folder that you can write to.")


def append_turn(path: FilePath, messages: Iterable[Message]) -> None:
    """Add a turn at the end of a file, on the disk when this returns.

    Raises:
        RequestError: it cannot be written.
    """
    data = lines_of(messages)
    try:
        with open(path, "r+b") as file:
            end = file.seek(0, os.SEEK_END)
            if end:
                file.seek(end - 1)
                data = data if file.read(1) == b"\n" else b"\n" + data
            try:
                file.write(data)
                file.flush()
                os.fsync(file.fileno())
            except OSError:
                with suppress(OSError):  # a torn line would be in the way of the next turn
                    os.ftruncate(file.fileno(), end)
                raise
    except OSError as error:
        raise _unwritable(path, error) from None


def lock_conversation(path: FilePath) -> IO[bytes]:
    """A file opened so that nobody else who asks for the same can, until it is closed.

    Raises:
        RequestError: another one has it, or it cannot be opened.
    """
    try:
        return opened_alone(Path(path), "rb")
    except Busy:
        raise RequestError(f"a talk is kept in {path}", hint="End that one, or name another file.") from None
    except OSError as error:
        raise _unwritable(path, error) from None


def _unwritable(path: FilePath, error: OSError) -> RequestError:
    return RequestError(
        f"{path} cannot be written ({error.strerror or error})", hint="Name a file in a folder that you can write to."
    )


def _encode(value: Json) -> bytes:
    try:
        return msgspec.json.encode(value)
    except (TypeError, ValueError) as error:
        raise RequestError(f"this conversation cannot be kept as JSON: {error}") from None
