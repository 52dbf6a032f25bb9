"""A token from a command's output."""

import json
import subprocess
from datetime import datetime

from ..core.errors import CredentialMissing
from ..core.secret import Secret
from .credential import Credential
from .sources import CommandKey

_TOKEN_FIELDS = ("access_token", "token", "accessToken", "key", "id_token")
_LIFETIME_FIELDS = ("expires_in", "expiresIn")
_EXPIRY_FIELDS = ("expires_at", "expiry", "expires_on", "expiresOn", "expiration", "expirationTimestamp")


def run(key: CommandKey, now: float) -> Credential:
    """Run the command, read the token that it prints.

    Raises:
        CredentialMissing: it cannot be run, fails, takes too long, or prints no token.
    """
    name = key.command[0] if key.command else ""
    try:
        done = subprocess.run(  # noqa: S603 - a list of arguments, never a shell
            key.command, capture_output=True, timeout=key.timeout, stdin=subprocess.DEVNULL, check=False
        )
    except (OSError, ValueError, IndexError) as error:
        raise CredentialMissing(
            f"no key: the command {name!r} cannot be run ({getattr(error, 'strerror', None) or error})",
            hint='Write it as a list: command = ["program", "argument"]; use the full path where it is not on PATH.',
        ) from None
    except subprocess.TimeoutExpired:
        raise CredentialMissing(
            f"no key: the command {name!r} did not end within {key.timeout:g} seconds",
            hint="It may wait for input: log in with it by hand first, or raise timeout in the entry's key.",
        ) from None
    if done.returncode != 0:
        said = " ".join(done.stderr.decode("utf-8", "replace").split())[-200:]
        raise CredentialMissing(
            f"no key: the command {name!r} failed with exit code {done.returncode}: {said or 'it said nothing'}",
            hint="Run it by hand; it may want a new login.",
        )
    return _read(done.stdout.decode("utf-8", "replace").strip(), key, now)


def _read(output: str, key: CommandKey, now: float) -> Credential:
    origin = f"command {key.command[0]}"
    if not output.startswith("{"):
        token = output.splitlines()[-1].strip() if output else ""
        if not token or " " in token:
            raise CredentialMissing(
                f"no key: the command {key.command[0]!r} printed no token",
                hint="It is to print the token alone, or JSON with access_token and expires_in.",
            )
        return Credential(Secret(token), origin, now + key.lifetime, renewable=True)
    try:
        fields = json.loads(output)
    except ValueError:
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
        value = fields.get(name)
        if isinstance(value, (int, float)):
            return now + value
    for name in _EXPIRY_FIELDS:
        value = fields.get(name)
        if isinstance(value, (int, float)):
            return float(value)
        if isinstance(value, str):
            try:
                return datetime.fromisoformat(value).timestamp()
            except ValueError:
                continue
    return None
