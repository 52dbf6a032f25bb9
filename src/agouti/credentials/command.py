"""A token from a command's output."""

import json
import math
import os
import re
import signal
import subprocess
import threading
import time
from contextlib import suppress
from datetime import datetime
from typing import IO

from ..core.errors import CredentialMissing
from ..core.secrets.secret import Secret
from .credential import Credential
from .sources import CommandKey

_TOKEN_FIELDS = ("access_token", "token", "accessToken", "key", "id_token")
_LIFETIME_FIELDS = ("expires_in", "expiresIn")
_EXPIRY_FIELDS = ("expires_at", "expiry", "expires_on", "expiresOn", "expiration", "expirationTimestamp")
# A token has some hundred bytes, an error message some thousand.
_MAX_BYTES = 200_000
# Seconds that the output of a command that has ended may still take: what it has started may hold the pipe for ever.
_KILL_WAIT = 0.5
_COLOURS = re.compile(r"\x1b\[[0-9;]*[A-Za-z]")


def run(key: CommandKey, now: float, seconds: float | None = None) -> Credential:
    """Run the command, read the token that it prints.

    Args:
        seconds: until the deadline of the call that wants it.

    Raises:
        CredentialMissing: it cannot be run, fails, takes too long, or prints no token.
    """
    name = key.command[0] if key.command else ""
    try:
        # A list of arguments, never a shell; a group of its own, so that it ends with all that it has started.
        process = subprocess.Popen(  # noqa: S603
            key.command,
            stdin=subprocess.DEVNULL,
            stdout=subprocess.PIPE,
            stderr=subprocess.PIPE,
            start_new_session=True,
        )
    except (OSError, ValueError, IndexError) as error:
        raise CredentialMissing(
            f"no key: the command {name!r} cannot be run ({getattr(error, 'strerror', None) or error})",
            hint='Write it as a list: command = ["program", "argument"]; use the full path where it is not on PATH.',
        ) from None
    limit = key.timeout if seconds is None else min(key.timeout, max(seconds, 0.0))
    output, errors, is_late = _outputs(process, limit)
    if is_late:
        raise CredentialMissing(
            f"no key: the command {name!r} did not end within {limit:g} seconds",
            hint="It may wait for input: log in with it by hand first, or raise timeout in the entry's key.",
        )
    if len(output) > _MAX_BYTES:
        raise CredentialMissing(
            f"no key: the command {name!r} prints more than {_MAX_BYTES // 1000} kB",
            hint="It is to print the token alone, or JSON with access_token and expires_in.",
        )
    if process.returncode != 0:
        excerpt = " ".join(_text(errors).split())[-200:]
        raise CredentialMissing(
            f"no key: the command {name!r} failed with exit code {process.returncode}: {excerpt or 'it said nothing'}",
            hint="Run it by hand; it may want a new login.",
        )
    return _read(_text(output).strip(), key, now)


def _outputs(process: "subprocess.Popen[bytes]", limit: float) -> tuple[bytes, bytes, bool]:
    """What a process prints, and whether it had to be stopped because it took too long."""
    texts = bytearray(), bytearray()
    readers = []
    for pipe, text in zip((process.stdout, process.stderr), texts, strict=True):
        reader = threading.Thread(target=_gather, args=(pipe, text, process), daemon=True)
        reader.start()
        readers.append(reader)
    is_late = False
    try:
        process.wait(limit)
    except subprocess.TimeoutExpired:
        is_late = True
    except BaseException:
        _stop(process)
        raise
    if is_late:
        _stop(process)
    until = time.monotonic() + _KILL_WAIT
    for reader in readers:
        reader.join(max(until - time.monotonic(), 0.0))
    return bytes(texts[0]), bytes(texts[1]), is_late


def _gather(pipe: IO[bytes], text: bytearray, process: "subprocess.Popen[bytes]") -> None:
    with suppress(OSError, ValueError), pipe:
        while chunk := os.read(pipe.fileno(), 65536):
            text += chunk
            if len(text) > _MAX_BYTES:
                _stop(process)
                return


def _stop(process: "subprocess.Popen[bytes]") -> None:
    """End a process and all that it has started."""
    with suppress(OSError):
        if hasattr(os, "killpg"):
            os.killpg(process.pid, signal.SIGKILL)
        else:
            process.kill()
    process.wait()


def _text(data: bytes) -> str:
    """Output as text, without what shells and terminals put around it."""
    encoding = "utf-16" if data[:2] in (b"\xff\xfe", b"\xfe\xff") else "utf-8-sig"
    return _COLOURS.sub("", data.decode(encoding, "replace"))


def _read(output: str, key: CommandKey, now: float) -> Credential:
    origin = f"command {key.command[0]}"
    if not output.startswith("{"):
        lines = [line.strip().strip("\"'") for line in output.splitlines() if line.strip()]
        token = lines[0] if lines else ""
        if assigned := re.fullmatch(r"(?:export )?[A-Z][A-Z0-9_]*=(.+)", token):
            token = assigned[1].strip("\"'")
        if len(lines) > 1 or not token or " " in token:
            problem = f"printed {len(lines)} lines" if len(lines) > 1 else "printed no token"
            raise CredentialMissing(
                f"no key: the command {key.command[0]!r} {problem}",
                hint="It is to print the token alone, in one line, or JSON with access_token and expires_in.",
            )
        return Credential(Secret(token), origin, now + key.lifetime, renewable=True)
    try:
        fields = json.loads(output)
    except (ValueError, RecursionError):
        fields = {}
    token = next((fields[name] for name in _TOKEN_FIELDS if isinstance(fields.get(name), str)), "")
    if not token:
        raise CredentialMissing(
            f"no key: the command {key.command[0]!r} printed JSON without a token",
            hint=f"The token is looked for in {', '.join(_TOKEN_FIELDS)}.",
        )
    return Credential(Secret(token), origin, _expiry(fields, now) or now + key.lifetime, renewable=True)


def _expiry(fields: dict[str, object], now: float) -> float | None:
    for name in _LIFETIME_FIELDS:
        lifetime = seconds_of(fields.get(name))
        if lifetime is not None:
            return now + lifetime
    for name in _EXPIRY_FIELDS:
        value = fields.get(name)
        moment = seconds_of(value)
        if moment is not None:
            return moment / 1000 if moment > 1e11 else moment  # nobody's token lives until the year 5000
        if isinstance(value, str):
            try:
                return datetime.fromisoformat(value).timestamp()
            except ValueError:
                continue
    return None


def seconds_of(value: object) -> float | None:
    """A number of seconds, which may stand in a text; `None` where it is none that there can be."""
    if isinstance(value, bool) or not isinstance(value, (int, float, str)):
        return None
    try:
        number = float(value)
    except (ValueError, OverflowError):
        return None
    return number if math.isfinite(number) and number >= 0 else None
