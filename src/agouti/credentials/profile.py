"""Signing keys: from key sources of their own, or from a section of a shared profile file."""

from collections.abc import Callable
from configparser import ConfigParser
from configparser import Error as ProfileError
from pathlib import Path

from ..core.errors import CredentialMissing
from ..core.secrets.secret import Secret
from ..core.text.suggest import near_hint
from .credential import SigningCredential
from .files import read_text
from .sources import Key, SignatureKey


def signing_keys(key: SignatureKey, secret_of: Callable[[Key], Secret]) -> SigningCredential:
    """The keys that sign.

    Raises:
        CredentialMissing: one of them is not there.
    """
    if key.profile_file:
        return _from_profile(key)
    if key.access_key is None or key.secret_key is None:
        raise CredentialMissing(
            "no signing keys: access_key and secret_key are both wanted",
            hint='Add access_key = { env = "..." } and secret_key = { env = "..." }, or profile_file = "...".',
        )
    return SigningCredential(
        secret_of(key.secret_key),
        key.describe(),
        renewable=True,
        access_key=secret_of(key.access_key).reveal(),
        region=key.region,
        service=key.service,
        session_token=secret_of(key.session_token) if key.session_token is not None else None,
    )


def _from_profile(key: SignatureKey) -> SigningCredential:
    path = Path(key.profile_file).expanduser()
    profiles = ConfigParser(interpolation=None)
    try:
        profiles.read_string(read_text(path, "signing keys"))
    except ProfileError as error:
        raise CredentialMissing(
            f"no signing keys: {path} is not a profile file ({str(error).splitlines()[0][:100]})",
            hint="It has sections such as [default], with lines NAME = VALUE.",
        ) from None
    if key.profile not in profiles:
        raise CredentialMissing(
            f"no signing keys: {path} has no profile [{key.profile}]",
            hint=near_hint(key.profile, profiles.sections(), "profile"),
        )
    # Tools put prefixes of their own before these names.
    keys = {}
    for name, value in profiles[key.profile].items():
        for suffix in ("secret_access_key", "access_key_id", "session_token"):
            if name.endswith(suffix) and value:
                keys[suffix] = value
                break
    missing = [name for name in ("access_key_id", "secret_access_key") if name not in keys]
    if missing:
        raise CredentialMissing(
            f"no signing keys: profile [{key.profile}] in {path} has no {' and no '.join(missing)}",
            hint="Add those lines, or name another profile.",
        )
    token = keys.get("session_token")
    return SigningCredential(
        Secret(keys["secret_access_key"]),
        key.describe(),
        renewable=True,
        access_key=keys["access_key_id"],
        region=key.region,
        service=key.service,
        session_token=Secret(token) if token else None,
    )
