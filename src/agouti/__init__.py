"""One interface to many model providers, hosted and local.

    import agouti

    with agouti.Client() as client:
        print(client.ask("almanac", "When do broad beans go in?"))

Layout, each layer looking only down: `client` and `cli` (faces) - `engine` (decisions: generators
without I/O) - `dialects` (one module per wire format), `credentials` - `core` (types, framing, errors).
`transport` opens connections; `standins` are simulated providers for examples and tests.

Importing this package loads none of it: each name below is loaded when it is first used.
"""

# Importing typing would take longer than all the rest; type checkers know this name.
TYPE_CHECKING = False

if TYPE_CHECKING:
    from .client import AsyncClient, Client
    from .config.entries import Config, Model, Provider
    from .config.load import load as load_config
    from .conversation import AsyncConversation, Conversation
    from .core import events
    from .core.chat import Citation, Message, SafetyNote, Usage
    from .core.errors import (
        AddressWrong,
        AgoutiError,
        AgoutiWarning,
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
        ModelUnknown,
        NoAccess,
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
    from .core.filled import Filled, Filling
    from .core.http import Timeouts, Tls
    from .core.reply import Attempt, Price, Reply, ToolUse
    from .core.retries import Retries
    from .core.secret import Secret
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
    from .growing import AsyncFillStream, FillStream
    from .images import Image
    from .streams import AsyncStream, Stream
    from .tools import Tool

__version__ = "0.1.0"

_HOME = {
    "AddressWrong": "core.errors",
    "AgoutiError": "core.errors",
    "AgoutiWarning": "core.errors",
    "AsyncClient": "client",
    "AsyncConversation": "conversation",
    "AsyncFillStream": "growing",
    "AsyncStream": "streams",
    "Attempt": "core.reply",
    "CircuitOpen": "core.errors",
    "Citation": "core.chat",
    "Client": "client",
    "CommandKey": "credentials.sources",
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
    "Embeddings": "embeddings",
    "EnvKey": "credentials.sources",
    "FileKey": "credentials.sources",
    "FillStream": "growing",
    "Filled": "core.filled",
    "Filling": "core.filled",
    "FramingError": "core.errors",
    "GivenKey": "credentials.sources",
    "Image": "images",
    "Key": "credentials.sources",
    "KeyringKey": "credentials.sources",
    "LabelUnknown": "core.errors",
    "Message": "core.chat",
    "Model": "config.entries",
    "ModelUnknown": "core.errors",
    "Near": "embeddings",
    "NoAccess": "core.errors",
    "NotFilled": "core.errors",
    "NotRecorded": "core.errors",
    "NotRunning": "core.errors",
    "OAuthKey": "credentials.sources",
    "OutOfCredit": "core.errors",
    "Overloaded": "core.errors",
    "ParameterUnsupported": "core.errors",
    "Price": "core.reply",
    "Provider": "config.entries",
    "ProviderError": "core.errors",
    "ProviderFault": "core.errors",
    "ProxyFailed": "core.errors",
    "RateLimited": "core.errors",
    "Reply": "core.reply",
    "ReplyError": "core.errors",
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
    "TooManyRounds": "core.errors",
    "Tool": "tools",
    "ToolCallInvalid": "core.errors",
    "ToolUse": "core.reply",
    "Usage": "core.chat",
    "events": "core",
    "load_config": "config.load",
}
_OTHER_NAME = {"load_config": "load"}

__all__ = [
    "AddressWrong",
    "AgoutiError",
    "AgoutiWarning",
    "AsyncClient",
    "AsyncConversation",
    "AsyncFillStream",
    "AsyncStream",
    "Attempt",
    "CircuitOpen",
    "Citation",
    "Client",
    "CommandKey",
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
    "Embeddings",
    "EnvKey",
    "FileKey",
    "FillStream",
    "Filled",
    "Filling",
    "FramingError",
    "GivenKey",
    "Image",
    "Key",
    "KeyringKey",
    "LabelUnknown",
    "Message",
    "Model",
    "ModelUnknown",
    "Near",
    "NoAccess",
    "NotFilled",
    "NotRecorded",
    "NotRunning",
    "OAuthKey",
    "OutOfCredit",
    "Overloaded",
    "ParameterUnsupported",
    "Price",
    "Provider",
    "ProviderError",
    "ProviderFault",
    "ProxyFailed",
    "RateLimited",
    "Reply",
    "ReplyError",
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
    "TooManyRounds",
    "Tool",
    "ToolCallInvalid",
    "ToolUse",
    "Usage",
    "events",
    "load_config",
]


def __getattr__(name: str) -> object:
    home = _HOME.get(name)
    if home is None:
        raise AttributeError(f"module {__name__!r} has no attribute {name!r}")
    from importlib import import_module

    module = import_module(f".{home}", __name__)
    found: object = getattr(module, _OTHER_NAME.get(name, name))
    globals()[name] = found
    return found


def __dir__() -> list[str]:
    return sorted({*__all__, "__version__"})
