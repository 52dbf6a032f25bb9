"""A photographed seed packet into a form: what is printed on it, as a value of a type of your own.

Run it against the simulated providers:   python examples/05_packet_into_form.py
"""

from pydantic import BaseModel, Field

import agouti
import agouti.standins
from agouti.standins.images import packet


class Packet(BaseModel):
    """A packet as it goes on the shelf."""

    variety: str = Field(description="the name in the line Variety")
    crop: str
    depth_in_cm: int = Field(ge=0, le=20, description="how deep it is sown")
    seeds: int = Field(gt=0)


with agouti.standins.serve() as served, agouti.Client(served.config) as client:
    for name in ("runner-bean", "beetroot", "kale"):
        label = client.fill("almanac", Packet, "Read the label.", images=[packet(name)]).value
        print(f"{label.variety:16} {label.crop:12} {label.seeds:4} seeds, {label.depth_in_cm} cm deep")

    # Two images, and a question in words; any provider that carries images takes them the same way.
    images = [packet("kale"), packet("beetroot")]
    print(client.ask("envelope-2@letterbox", "Which of these two is sown first?", images=images))

    try:
        client.ask("loam-2b@shed", "What is on it?", images=[packet("kale")])
    except agouti.RequestRefused as error:
        print(error.provider_message)
