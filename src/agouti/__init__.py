"""One interface to many model providers, hosted and local.

    import agouti

    with agouti.Client() as client:
        print(client.ask("almanac", "When do broad beans go in?"))

Layout, each layer looking only down: `cli` - `services` - `client`, `conversation`, `streams`, `calls` (faces) -
`engine` (decisions: generators without I/O) - `dialects` (one module per wire format), `credentials`, `config` -
`core` (types, errors, framing). `transport` opens connections; `standins` are simulated providers.

Importing this package loads none of it: each name below is loaded when it is first used.
"""

import sys

# Importing typing would take longer than all the rest; type checkers know this name.
TYPE_CHECKING = False

if TYPE_CHECKING:
    from . import relay as relay
    from ._version import __version__ as __version__
    from .batches.batch import Batch, BatchPlan, BatchRow
    from .batches.export import export as batch_export
    from .batches.types import Progress as BatchProgress
    from .calls.streams import AsyncFillStream, AsyncStream, FillStream, Stream
    from .client.async_client import AsyncClient
    from .client.client import Client
    from .config.budgets import Budget
    from .config.entries import Config, Model, Provider
    from .config.load import load as load_config
    from .conversations.conversation import AsyncConversation, Conversation
    from .core.attempt import Attempt
    from .core.canonical import events
    from .core.canonical.chat import Citation, Message, ProviderTurn, SafetyNote, TokenLogprob
    from .core.canonical.usage import Price, Usage
    from .core.errors import (
        AddressWrong,
        AgoutiError,
        AgoutiWarning,
        BudgetExceeded,
        CallRefused,
        CircuitOpen,
        ConfigError,
        ConnectionFailed,
        ConnectionLost,
        ContentRefused,
        ContextOverflow,
        CredentialError,
        CredentialMissing,
        CredentialRefused,
        DeadlineExceeded,
        FramingError,
        LabelUnknown,
        LedgerUnavailable,
        LimitReached,
        ModelUnknown,
        NoAccess,
        NotAccepted,
        NotRecorded,
        NotRunning,
        OutOfCredit,
        Overloaded,
        ParameterUnsupported,
        ProviderError,
        ProviderFault,
        ProxyFailed,
        RateLimited,
        ReplyError,
        ReplyUnreadable,
        RequestError,
        RequestRefused,
        TimedOut,
        TLSFailed,
        ToolCallInvalid,
        TooManyRounds,
    )
    from .core.http.exchange import Timeouts, Tls
    from .core.secrets.secret import Secret
    from .core.settings.rate_limits import RateLimits
    from .core.settings.retries import Retries
    from .credentials.sources import (
        CommandKey,
        EnvKey,
        FileKey,
        GivenKey,
        Key,
        KeyringKey,
        OAuthKey,
        SeveralKeys,
        SignatureKey,
    )
    from .embeddings.embeddings import Embeddings, Near
    from .engine.hook_checks import run_in_thread
    from .engine.hooks import AttemptDetails, AttemptResult, CallResult, Hook
    from .engine.operations.count import TokenCount
    from .engine.question import Question
    from .ledger.usage import UsageReport
    from .ledger.usage_rows import UsageRow
    from .media import Audio, File, Image
    from .replies.errors import NotFilled, StreamCut
    from .replies.files import ReplyFile
    from .replies.filled import Filled, FilledAnswer
    from .replies.model_list import ModelList, OfferedModel
    from .replies.reply import Reply, ToolUse
    from .services.batch.batch_rows import batch
    from .services.batch.batch_rows import plan as batch_plan
    from .services.batch.status import DeferredBatch, batch_status
    from .services.check.check_entries import check
    from .services.compare.compare_models import compare
    from .services.compare.results import Comparison
    from .services.compare.rows import ComparedAnswer
    from .services.explain import explain
    from .services.probe.probe_model import probe
    from .services.probe.types import Probed, ProbeResult
    from .tools.tool import Tool

_HOME = {
    "__version__": "_version",
    "AddressWrong": "core.errors",
    "AgoutiError": "core.errors",
    "AgoutiWarning": "core.errors",
    "AsyncClient": "client.async_client",
    "AsyncConversation": "conversations.conversation",
    "AsyncFillStream": "calls.streams",
    "AsyncStream": "calls.streams",
    "Attempt": "core.attempt",
    "AttemptDetails": "engine.hooks",
    "AttemptResult": "engine.hooks",
    "Audio": "media",
    "Batch": "batches.batch",
    "BatchPlan": "batches.batch",
    "BatchProgress": "batches.types",
    "BatchRow": "batches.batch",
    "Budget": "config.budgets",
    "BudgetExceeded": "core.errors",
    "CallRefused": "core.errors",
    "CallResult": "engine.hooks",
    "CircuitOpen": "core.errors",
    "Citation": "core.canonical.chat",
    "Client": "client.client",
    "CommandKey": "credentials.sources",
    "ComparedAnswer": "services.compare.rows",
    "Comparison": "services.compare.results",
    "Config": "config.entries",
    "ConfigError": "core.errors",
    "ConnectionFailed": "core.errors",
    "ConnectionLost": "core.errors",
    "ContentRefused": "core.errors",
    "ContextOverflow": "core.errors",
    "Conversation": "conversations.conversation",
    "CredentialError": "core.errors",
    "CredentialMissing": "core.errors",
    "CredentialRefused": "core.errors",
    "DeadlineExceeded": "core.errors",
    "DeferredBatch": "services.batch.status",
    "Embeddings": "embeddings.embeddings",
    "EnvKey": "credentials.sources",
    "File": "media",
    "FileKey": "credentials.sources",
    "FillStream": "calls.streams",
    "Filled": "replies.filled",
    "FilledAnswer": "replies.filled",
    "FramingError": "core.errors",
    "GivenKey": "credentials.sources",
    "Hook": "engine.hooks",
    "Image": "media",
    "Key": "credentials.sources",
    "KeyringKey": "credentials.sources",
    "LabelUnknown": "core.errors",
    "LimitReached": "core.errors",
    "Message": "core.canonical.chat",
    "Model": "config.entries",
    "ModelList": "replies.model_list",
    "ModelUnknown": "core.errors",
    "Near": "embeddings.embeddings",
    "NoAccess": "core.errors",
    "NotAccepted": "core.errors",
    "NotFilled": "replies.errors",
    "NotRecorded": "core.errors",
    "NotRunning": "core.errors",
    "OAuthKey": "credentials.sources",
    "OfferedModel": "replies.model_list",
    "OutOfCredit": "core.errors",
    "Overloaded": "core.errors",
    "LedgerUnavailable": "core.errors",
    "ParameterUnsupported": "core.errors",
    "Price": "core.canonical.usage",
    "ProbeResult": "services.probe.types",
    "Probed": "services.probe.types",
    "Provider": "config.entries",
    "ProviderError": "core.errors",
    "ProviderFault": "core.errors",
    "ProviderTurn": "core.canonical.chat",
    "ProxyFailed": "core.errors",
    "Question": "engine.question",
    "RateLimited": "core.errors",
    "RateLimits": "core.settings.rate_limits",
    "Reply": "replies.reply",
    "ReplyError": "core.errors",
    "ReplyFile": "replies.files",
    "ReplyUnreadable": "core.errors",
    "RequestError": "core.errors",
    "RequestRefused": "core.errors",
    "Retries": "core.settings.retries",
    "SafetyNote": "core.canonical.chat",
    "Secret": "core.secrets.secret",
    "SeveralKeys": "credentials.sources",
    "SignatureKey": "credentials.sources",
    "Stream": "calls.streams",
    "StreamCut": "replies.errors",
    "TLSFailed": "core.errors",
    "TimedOut": "core.errors",
    "Timeouts": "core.http.exchange",
    "Tls": "core.http.exchange",
    "TokenCount": "engine.operations.count",
    "TokenLogprob": "core.canonical.chat",
    "TooManyRounds": "core.errors",
    "Tool": "tools.tool",
    "ToolCallInvalid": "core.errors",
    "ToolUse": "replies.reply",
    "Usage": "core.canonical.usage",
    "UsageReport": "ledger.usage",
    "UsageRow": "ledger.usage_rows",
    "batch": "services.batch.batch_rows",
    "batch_export": "batches.export",
    "batch_plan": "services.batch.batch_rows",
    "batch_status": "services.batch.status",
    "check": "services.check.check_entries",
    "compare": "services.compare.compare_models",
    "events": "core.canonical",
    "explain": "services.explain",
    "load_config": "config.load",
    "probe": "services.probe.probe_model",
    "run_in_thread": "engine.hook_checks",
}
_OTHER_NAME = {"BatchProgress": "Progress", "batch_export": "export", "batch_plan": "plan", "load_config": "load"}

__all__ = [
    "AddressWrong",
    "AgoutiError",
    "AgoutiWarning",
    "AsyncClient",
    "AsyncConversation",
    "AsyncFillStream",
    "AsyncStream",
    "Attempt",
    "AttemptDetails",
    "AttemptResult",
    "Audio",
    "Batch",
    "BatchPlan",
    "BatchProgress",
    "BatchRow",
    "Budget",
    "BudgetExceeded",
    "CallRefused",
    "CallResult",
    "CircuitOpen",
    "Citation",
    "Client",
    "CommandKey",
    "ComparedAnswer",
    "Comparison",
    "Config",
    "ConfigError",
    "ConnectionFailed",
    "ConnectionLost",
    "ContentRefused",
    "ContextOverflow",
    "Conversation",
    "CredentialError",
    "CredentialMissing",
    "CredentialRefused",
    "DeadlineExceeded",
    "DeferredBatch",
    "Embeddings",
    "EnvKey",
    "File",
    "FileKey",
    "FillStream",
    "Filled",
    "FilledAnswer",
    "FramingError",
    "GivenKey",
    "Hook",
    "Image",
    "Key",
    "KeyringKey",
    "LabelUnknown",
    "LedgerUnavailable",
    "LimitReached",
    "Message",
    "Model",
    "ModelList",
    "ModelUnknown",
    "Near",
    "NoAccess",
    "NotAccepted",
    "NotFilled",
    "NotRecorded",
    "NotRunning",
    "OAuthKey",
    "OfferedModel",
    "OutOfCredit",
    "Overloaded",
    "ParameterUnsupported",
    "Price",
    "ProbeResult",
    "Probed",
    "Provider",
    "ProviderError",
    "ProviderFault",
    "ProviderTurn",
    "ProxyFailed",
    "Question",
    "RateLimited",
    "RateLimits",
    "Reply",
    "ReplyError",
    "ReplyFile",
    "ReplyUnreadable",
    "RequestError",
    "RequestRefused",
    "Retries",
    "SafetyNote",
    "Secret",
    "SeveralKeys",
    "SignatureKey",
    "Stream",
    "StreamCut",
    "TLSFailed",
    "TimedOut",
    "Timeouts",
    "Tls",
    "TokenCount",
    "TokenLogprob",
    "TooManyRounds",
    "Tool",
    "ToolCallInvalid",
    "ToolUse",
    "Usage",
    "UsageReport",
    "UsageRow",
    "batch",
    "batch_export",
    "batch_plan",
    "batch_status",
    "check",
    "compare",
    "events",
    "explain",
    "load_config",
    "probe",
    "run_in_thread",
]


class _FormerPaths:
    """Finds modules by the paths that they had in 0.2, where nothing else finds them."""

    @staticmethod
    def find_spec(name: str, path: object = None, target: object = None) -> object:
        if not name.startswith("agouti."):
            return None
        from ._former import find_spec

        return find_spec(name)


sys.meta_path.append(_FormerPaths)  # type: ignore[arg-type]  # its types would have to be imported


# Modules that are there without being imported first: ``agouti.relay.app(...)``.
_PARTS = ("relay",)


def __getattr__(name: str) -> object:
    home = _HOME.get(name)
    if name in _PARTS:
        from importlib import import_module

        return import_module(f".{name}", __name__)
    if home is None:
        raise AttributeError(f"module {__name__!r} has no attribute {name!r}")
    from importlib import import_module

    from .runtime.lazy_import import without_collecting

    with without_collecting():
        module = import_module(f".{home}", __name__)
    value: object = getattr(module, _OTHER_NAME.get(name, name))
    globals()[name] = value
    return value


def __dir__() -> list[str]:
    return sorted({*__all__, "__version__"})
