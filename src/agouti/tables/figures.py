"""Figures of results, drawn with Matplotlib: colours, axes and files."""

import io
from typing import TYPE_CHECKING

from ..core.errors import ConfigError
from ..core.secrets.masking import printable

if TYPE_CHECKING:
    from matplotlib.axes import Axes
    from matplotlib.figure import Figure

# Told apart by those who see fewer colours as well; the shape of the mark says the same.
COLOURS = ("#0072b2", "#d55e00", "#009e73", "#cc79a7", "#e69f00", "#56b4e9", "#000000")
MARKS = "osD^vPX"


def new_figure(panels: int = 1) -> "tuple[Figure, list[Axes]]":
    """A figure with so many panels below each other.

    Raises:
        ConfigError: Matplotlib is not installed.
    """
    try:
        from matplotlib.figure import Figure
    except ImportError:
        raise ConfigError(
            "a figure needs Matplotlib, which is not installed",
            hint="Install it: pip install 'agouti-client[figures]'.",
        ) from None
    figure = Figure(figsize=(8, 5 if panels == 1 else 3.4 * panels), layout="constrained")
    axes = [figure.add_subplot(panels, 1, at + 1) for at in range(panels)]
    for each in axes:
        each.grid(visible=True, alpha=0.3)
        each.set_axisbelow(True)
        each.spines[["top", "right"]].set_visible(False)
    return figure, axes


def style_of(names: list[str], name: str) -> tuple[str, str]:
    """Colour and mark of one of several names."""
    at = names.index(name)
    return COLOURS[at % len(COLOURS)], MARKS[at % len(MARKS)]


def as_label(name: str) -> str:
    """A name of anybody as it can stand in a figure: no formula, no control characters, and seen in a legend.

    >>> as_label("_a$b$")
    ' _a\\\\$b\\\\$'
    """
    visible = printable(name)[:60].replace("\\", "/").replace("$", r"\$") or "?"
    return f" {visible}" if visible.startswith("_") else visible


def as_png(figure: "Figure") -> bytes:
    """A figure as a picture."""
    image = io.BytesIO()
    figure.savefig(image, format="png", dpi=120)
    return image.getvalue()
