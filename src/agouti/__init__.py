"""One interface to many model providers, hosted and local.

    import agouti

    with agouti.Client() as client:
        print(client.ask("almanac", "When do broad beans go in?"))

Layout, each layer looking only down: `cli` - `services` - `client`, `conversation`, `streams`, `calls` (faces) -
`engine` (decisions: generators without I/O) - `dialects` (one module per wire format), `credentials`, `config` -
`core` (types, errors, framing). `transport` opens connections; `standins` are simulated providers.

Importing this package loads none of it: each name below is loaded when it is first used.
"""

# Importing typing would take longer than all the rest; type checkers know this name.
TYPE_CHECKING = False

if TYPE_CHECKING:
    from . import relay as relay
    from .batches.result import Batch, BatchPlan, BatchRow
    from .batches.result_files import export as batch_export
    from .batches.units import Progress as BatchProgress
    from .client import AsyncClient, Client
    from .config.budgets import Budget
    from .config.entries import Config, Model, Provider
    from .config.load import load as load_config
    from .conversation import AsyncConversation, Conversation
    from .core import events
    from .core.chat import Citation, Message, ProviderTurn, SafetyNote, TokenLogprob
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
        NotFilled,
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
        StreamCut,
        TimedOut,
        TLSFailed,
        ToolCallInvalid,
        TooManyRounds,
    )
    from .core.http import Timeouts, Tls
    from .core.rate_limits import RateLimits
    from .core.retries import Retries
    from .core.secret import Secret
    from .core.usage import Price, Usage
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
    from .embeddings import Embeddings, Near
    from .engine.hook_checks import run_in_thread
    from .engine.hooks import AttemptDetails, AttemptResult, CallResult, Hook
    from .engine.operations.count import TokenCount
    from .engine.question import Question
    from .filled import Filled, FilledAnswer
    from .ledger.usage import UsageReport, UsageRow
    from .media import Audio, File, Image
    from .model_list import ModelList, OfferedModel
    from .reply import Attempt, Reply, ToolUse
    from .reply_files import ReplyFile
    from .services.batch import batch
    from .services.batch import plan as batch_plan
    from .services.batch_status import DeferredBatch, batch_status
    from .services.check import check
    from .services.compare import compare
    from .services.compare_results import Comparison
    from .services.compare_rows import ComparedAnswer
    from .services.explain import explain
    from .services.probe import Probed, ProbeResult, probe
    from .streams import AsyncFillStream, AsyncStream, FillStream, Stream
    from .tools import Tool

__version__ = "0.2.0"

_HOME = {
    "AddressWrong": "core.errors",
    "AgoutiError": "core.errors",
    "AgoutiWarning": "core.errors",
    "AsyncClient": "client",
    "AsyncConversation": "conversation",
    "AsyncFillStream": "streams",
    "AsyncStream": "streams",
    "Attempt": "reply",
    "AttemptDetails": "engine.hooks",
    "AttemptResult": "engine.hooks",
    "Audio": "media",
    "Batch": "batches.result",
    "BatchPlan": "batches.result",
    "BatchProgress": "batches.units",
    "BatchRow": "batches.result",
    "Budget": "config.budgets",
    "BudgetExceeded": "core.errors",
    "CallRefused": "core.errors",
    "CallResult": "engine.hooks",
    "CircuitOpen": "core.errors",
    "Citation": "core.chat",
    "Client": "client",
    "CommandKey": "credentials.sources",
    "ComparedAnswer": "services.compare_rows",
    "Comparison": "services.compare_results",
    "Config": "config.entries",
    "ConfigError": "core.errors",
    "ConnectionFailed": "core.errors",
    "ConnectionLost": "core.errors",
    "ContentRefused": "core.errors",
    "ContextOverflow": "core.errors",
    "Conversation": "conversation",
    "CredentialError": "core.errors",
    "CredentialMissing": "core.errors",
    "CredentialRefused": "core.errors",
    "DeadlineExceeded": "core.errors",
    "DeferredBatch": "services.batch_status",
    "Embeddings": "embeddings",
    "EnvKey": "credentials.sources",
    "File": "media",
    "FileKey": "credentials.sources",
    "FillStream": "streams",
    "Filled": "filled",
    "FilledAnswer": "filled",
    "FramingError": "core.errors",
    "GivenKey": "credentials.sources",
    "Hook": "engine.hooks",
    "Image": "media",
    "Key": "credentials.sources",
    "KeyringKey": "credentials.sources",
    "LabelUnknown": "core.errors",
    "LimitReached": "core.errors",
    "Message": "core.chat",
    "Model": "config.entries",
    "ModelList": "model_list",
    "ModelUnknown": "core.errors",
    "Near": "embeddings",
    "NoAccess": "core.errors",
    "NotAccepted": "core.errors",
    "NotFilled": "core.errors",
    "NotRecorded": "core.errors",
    "NotRunning": "core.errors",
    "OAuthKey": "credentials.sources",
    "OfferedModel": "model_list",
    "OutOfCredit": "core.errors",
    "Overloaded": "core.errors",
    "LedgerUnavailable": "core.errors",
    "ParameterUnsupported": "core.errors",
    "Price": "core.usage",
    "ProbeResult": "services.probe",
    "Probed": "services.probe",
    "Provider": "config.entries",
    "ProviderError": "core.errors",
    "ProviderFault": "core.errors",
    "ProviderTurn": "core.chat",
    "ProxyFailed": "core.errors",
    "Question": "engine.question",
    "RateLimited": "core.errors",
    "RateLimits": "core.rate_limits",
    "Reply": "reply",
    "ReplyError": "core.errors",
    "ReplyFile": "reply_files",
    "ReplyUnreadable": "core.errors",
    "RequestError": "core.errors",
    "RequestRefused": "core.errors",
    "Retries": "core.retries",
    "SafetyNote": "core.chat",
    "Secret": "core.secret",
    "SeveralKeys": "credentials.sources",
    "SignatureKey": "credentials.sources",
    "Stream": "streams",
    "StreamCut": "core.errors",
    "TLSFailed": "core.errors",
    "TimedOut": "core.errors",
    "Timeouts": "core.http",
    "Tls": "core.http",
    "TokenCount": "engine.operations.count",
    "TokenLogprob": "core.chat",
    "TooManyRounds": "core.errors",
    "Tool": "tools",
    "ToolCallInvalid": "core.errors",
    "ToolUse": "reply",
    "Usage": "core.usage",
    "UsageReport": "ledger.usage",
    "UsageRow": "ledger.usage",
    "batch": "services.batch",
    "batch_export": "batches.result_files",
    "batch_plan": "services.batch",
    "batch_status": "services.batch_status",
    "check": "services.check",
    "compare": "services.compare",
    "events": "core",
    "explain": "services.explain",
    "load_config": "config.load",
    "probe": "services.probe",
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

    from .loading import without_collecting

    with without_collecting():
        module = import_module(f".{home}", __name__)
    value: object = getattr(module, _OTHER_NAME.get(name, name))
    globals()[name] = value
    return value


def __dir__() -> list[str]:
    return sorted({*__all__, "__version__"})
