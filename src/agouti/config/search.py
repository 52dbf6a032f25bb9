"""Where configuration files are looked for, and which of those that are there may be a stranger's."""

import os
from collections.abc import Mapping
from pathlib import Path

from ..core.errors import ConfigError

FILE_NAME = "agouti.toml"


def user_file() -> Path:
    """The user's own file, in the platform's configuration folder."""
    import platformdirs

    return platformdirs.user_config_path("agouti") / FILE_NAME


def nearest_file(folder: Path) -> Path | None:
    """The nearest ``agouti.toml`` from a folder upwards that is the user's own.

    Raises:
        ConfigError: the one in the folder itself is a stranger's.
    """
    return _nearest(folder)[0]


def _nearest(folder: Path) -> tuple[Path | None, str]:
    """The nearest file, and why the search went no further, where it was stopped."""
    folder = folder.absolute()
    for each in (folder, *folder.parents):
        path = each / FILE_NAME
        if path.is_file():
            if not (reason := not_trusted(path)):
                return path, ""
            if each == folder:
                raise ConfigError(
                    f"{path} {reason}: it is not read, because it could run commands and send your keys anywhere",
                    hint=f"If you trust it, name it: agouti --config {FILE_NAME} ..., or AGOUTI_CONFIG={path}",
                )
            return None, f"{path} {reason} and is not read"
        if each != folder and (reason := not_trusted(each)):
            return None, f"{each} {reason}; the search ends there"
    return None, ""


def not_trusted(path: Path) -> str:
    """Why what stands there may be a stranger's; empty where it is the user's own, or the system's."""
    try:
        facts = path.stat()
        user = os.getuid()
    except (OSError, AttributeError):  # no such thing as an owner on this system
        return ""
    if facts.st_uid not in (0, user):
        return "belongs to another user"
    return "can be written by everybody" if facts.st_mode & 0o002 else ""


def find_files(folder: Path, variables: Mapping[str, str]) -> tuple[list[Path], str]:
    """The files that apply in a folder, the last one winning; and where the search was stopped, in words."""
    paths_found = []
    user_config = user_file()
    if user_config.is_file():
        paths_found.append(user_config)
    named = variables.get("AGOUTI_CONFIG")
    if named:
        return [*paths_found, Path(named).expanduser()], ""
    nearest, stopped = _nearest(folder)
    if nearest is not None and nearest != user_config:
        paths_found.append(nearest)
    return paths_found, stopped


def shown_path(path: Path) -> str:
    """The path as short as it can be said from here."""
    try:
        return str(path.absolute().relative_to(Path.cwd()))
    except ValueError:
        return str(path)
