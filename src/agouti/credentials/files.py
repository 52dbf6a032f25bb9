"""Files that hold something secret."""

from pathlib import Path

from ..core.errors import CredentialMissing


def read_text(path: Path, subject: str) -> str:
    """The text of a file that holds something secret.

    Raises:
        CredentialMissing: it cannot be read.
    """
    try:
        return path.read_text()
    except OSError as error:
        raise CredentialMissing(
            f"no {subject}: file {path} cannot be read ({error.strerror or error})",
            hint="Put it into that file and make it readable for you only (chmod 600), or correct the path.",
        ) from None
    except UnicodeDecodeError:
        raise CredentialMissing(
            f"no {subject}: file {path} is not a text file", hint="Put the text itself into that file."
        ) from None
