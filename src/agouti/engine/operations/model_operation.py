"""Operations that name a model: where a provider does not know it, near names from its list are named."""

from ...core.errors import AgoutiError, ModelUnknown
from ..call import Call
from ..effects import Steps
from ..outcome import Request, Result
from ..providers.provider import Target
from ..receiving.whole_reply import WholeReply


class ModelOperation(WholeReply[Request, Result]):
    """An operation that is asked of a model."""

    def explain_failure(self, error: AgoutiError, call: Call, target: Target) -> Steps[None]:
        if isinstance(error, ModelUnknown):
            from .listing import name_near_models

            yield from name_near_models(error, call, target)
