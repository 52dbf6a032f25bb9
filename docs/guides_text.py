"""All guides as one plain text file beside the site, for readers that are programs: guides.txt."""

from pathlib import Path
from typing import Any

DOCS = Path(__file__).parent


def pages(nav: list[Any]) -> list[str]:
    """The pages of the navigation, in its order."""
    found: list[str] = []
    for entry in nav:
        for target in entry.values() if isinstance(entry, dict) else [entry]:
            found += pages(target) if isinstance(target, list) else [target]
    return found


def text(nav: list[Any]) -> str:
    """The guides and the generated references, one behind the other, each below its path.

    Pages that are made from docstrings are left out: they hold directives, and no text.
    """
    bodies = {page: (DOCS / page).read_text(encoding="utf-8") for page in pages(nav)}
    return "".join(f"<!-- {page} -->\n\n{body.strip()}\n\n" for page, body in bodies.items() if "\n::: " not in body)


def on_post_build(config: Any, **_: Any) -> None:
    """Write the file when the site is built."""
    (Path(config["site_dir"]) / "guides.txt").write_text(text(config["nav"]), encoding="utf-8")
