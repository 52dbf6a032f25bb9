"""Draw the demo pictures: the seed packets that the stand-ins know.

Run it after a label has changed: ``python docs/packets.py``.
"""

from PIL import Image, ImageDraw, ImageFont

from agouti.standins.images import LABELS, packet

_COLOURS = {"runner-bean": "#b5443a", "beetroot": "#7b2d4f", "kale": "#3f6b4a"}


def draw(name: str) -> Image.Image:
    """One packet, 300 by 420 pixels."""
    picture = Image.new("RGB", (300, 420), "#f4ecd8")
    pen = ImageDraw.Draw(picture)
    pen.rectangle((0, 0, 299, 120), fill=_COLOURS[name])
    pen.rectangle((6, 6, 293, 413), outline="#5b5140", width=2)
    title, *lines = (
        line.partition(": ")[2] if place == 0 else line for place, line in enumerate(LABELS[name].split("\n"))
    )
    pen.text((150, 50), title.upper(), font=ImageFont.load_default(30), fill="#fffaf0", anchor="mm")
    pen.text((150, 92), "Marsh Lane Seed Library", font=ImageFont.load_default(14), fill="#fffaf0", anchor="mm")
    for seed in range(9):
        pen.ellipse((40 + seed * 25, 140, 54 + seed * 25, 160), fill=_COLOURS[name])
    for place, line in enumerate(lines):
        pen.text((30, 190 + place * 34), line, font=ImageFont.load_default(18), fill="#2b2620")
    return picture.quantize(16)


if __name__ == "__main__":
    for each in LABELS:
        packet(each).parent.mkdir(exist_ok=True)
        draw(each).save(packet(each), optimize=True)
