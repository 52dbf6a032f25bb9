"""The models that the relay serves, as its lists show them."""

from ..config.entries import Config
from ..dialects.wire import ListedModel
from .access_tokens import AccessToken


def listed(config: Config, token: AccessToken) -> list[ListedModel]:
    """The models that a token may ask, by their labels."""
    rows = []
    for label, model in config.models.items():
        if not token.may_ask(label):
            continue
        price = model.price_now
        rows.append(
            ListedModel(
                name=label,
                context=model.context,
                input_price=None if price is None else price.input,
                output_price=None if price is None else price.output,
                inputs=model.inputs,
                owner=model.provider,
            )
        )
    return rows
