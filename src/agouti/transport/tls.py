"""TLS contexts: one for the system's trust store, one for each set of certificates that an entry names."""

import ssl

from ..core.errors import ConfigError
from ..core.http.exchange import Tls


class Contexts:
    """Loading a trust store costs 75 to 100 ms, so each context is made once and shared.

    Raises:
        ConfigError: a file of certificates cannot be used.
    """

    def __init__(self) -> None:
        self._contexts: dict[Tls | None, ssl.SSLContext] = {}

    def of(self, tls: Tls | None) -> ssl.SSLContext:
        """The context for an entry's certificates; `None`: the system's trust store alone."""
        context = self._contexts.get(tls)
        if context is None:
            context = ssl.create_default_context()
            if tls is not None:
                _load(context, tls)
            context = self._contexts.setdefault(tls, context)
        return context


def _load(context: ssl.SSLContext, tls: Tls) -> None:
    for name, path in (("ca", tls.ca), ("certificate", tls.certificate)):
        if not path:
            continue
        try:
            if name == "ca":
                context.load_verify_locations(path)
            else:
                context.load_cert_chain(path)
        except (OSError, ssl.SSLError) as error:
            raise ConfigError(
                f"tls.{name} = {path!r} cannot be used ({getattr(error, 'reason', None) or error.strerror or error})",
                hint="It is a PEM file: -----BEGIN CERTIFICATE-----"
                + (" and the private key in the same file." if name == "certificate" else "."),
            ) from None
