"""The made-up providers: who they are, what they offer and what they demand.

One entry per provider. A dialect's module (`chat`, ...) answers for all providers that speak it.
"""

from dataclasses import dataclass, field

from .auth import (
    Bearer,
    Door,
    Either,
    KeyHeader,
    KeyQuery,
    NoCredit,
    Signed,
    Tokens,
    UserPassword,
    WantsHeader,
    WantsQuery,
)


@dataclass(frozen=True)
class StandInModel:
    """A made-up model.

    Attributes:
        context: tokens of prompt and answer together.
        prices: dollars per million tokens, in and out.
        regions: where it is offered; everywhere if empty.
        open: whether the account may use it.
        refuses: parameters that it does not take.
        sees: whether it takes images.
        vectors: the length of its vectors, for a model that makes those.
        version: another name that says exactly which it is.
    """

    name: str
    context: int = 8192
    prices: tuple[float, float] | None = None
    regions: tuple[str, ...] = ()
    open: bool = True
    refuses: tuple[str, ...] = ()
    sees: bool = True
    vectors: int = 0
    version: str = ""


@dataclass(frozen=True)
class StandIn:
    """A made-up provider.

    Attributes:
        label: its name, and the first part of its path.
        dialect: what it speaks.
        path: where the dialect's paths begin; may hold ``{region}``.
        doors: what it demands, in the order in which it looks.
        variables: the keys that the ready-made configuration looks for, by variable.
        settings: the lines of the ready-made entry after its address.
        deployments: the model stands in the path, and must not stand in the body.
    """

    label: str
    dialect: str
    path: str = "/v1"
    doors: tuple[Door, ...] = ()
    variables: dict[str, str] = field(default_factory=dict)
    settings: str = ""
    models: tuple[StandInModel, ...] = ()
    deployments: bool = False

    def model(self, name: str) -> StandInModel | None:
        """The model of that name."""
        return next((model for model in self.models if model.name == name), None)


_QUILL = (
    StandInModel("quill-large", 32768, (0.27, 0.81)),
    StandInModel("quill-small", 8192, (0.05, 0.10)),
    StandInModel("quill-next", 65536, (1.10, 4.40), open=False),
    StandInModel("quill-thinker", 32768, (1.10, 4.40), refuses=("temperature", "max_tokens")),
    StandInModel("petal-embed", 512, (0.02, 0.0), sees=False, vectors=256),
)

# A wire format that a configuration declares: see the guide to dialects.
_BOARD = """
[dialects.board]
path = "/talk"
model = "/engine"
messages = "/conversation"
role = "/who"
content = "/words"
roles = { assistant = "board" }
parameters = { temperature = "/settings/heat", max_tokens = "/settings/limit", stop = "/settings/ends" }
text = "/result/0/words"
finish_reason = "/result/0/why"
finish_reasons = { over = "stop", full = "length" }
reported_model = "/engine"
usage = { input_tokens = "/meta/in", output_tokens = "/meta/out" }
error = "/problem/said"
error_code = "/problem/code"
error_codes = { E1 = "CredentialRefused", E4 = "ModelUnknown" }
models = { path = "/engines", list = "/engines" }
stream = { framing = "lines", switch = "/live", text = "/words", finish_reason = "/why" }
"""

STAND_INS = (
    StandIn(
        "northbank",
        "chat",
        doors=(Bearer("nb-3f9a-marsh-lane-demo"),),
        variables={"NORTHBANK_KEY": "nb-3f9a-marsh-lane-demo"},
        settings='key = { env = "NORTHBANK_KEY" }\n',
        models=_QUILL,
    ),
    StandIn("shed", "chat", models=(StandInModel("loam-2b", 4096, sees=False), StandInModel("loam-7b", 8192))),
    StandIn(
        "orchard",
        "chat",
        path="/api/v2",
        doors=(
            KeyHeader("x-orchard-key", "or-51c2-marsh-lane-demo"),
            WantsHeader("x-orchard-version", ("2026-03-01",)),
            WantsHeader("x-project", ("seed-library",)),
        ),
        variables={"ORCHARD_KEY": "or-51c2-marsh-lane-demo"},
        settings='key = { env = "ORCHARD_KEY" }\n'
        'send_key = "header:x-orchard-key"\n'
        'headers = { "x-orchard-version" = "2026-03-01", "x-project" = "{project}" }\n'
        'values = { project = "seed-library" }\n',
        models=(StandInModel("pippin-1", 16384), StandInModel("pippin-1-mini", 16384)),
    ),
    StandIn(
        "harbour",
        "chat",
        path="",
        doors=(KeyHeader("api-key", "hb-90d4-marsh-lane-demo"), WantsQuery("api-version", "2026-05-01")),
        variables={"HARBOUR_KEY": "hb-90d4-marsh-lane-demo"},
        settings='paths = { chat = "/deployments/{model}/chat/completions" }\n'
        'query = { "api-version" = "2026-05-01" }\n'
        'key = { env = "HARBOUR_KEY" }\n'
        'send_key = "header:api-key"\n',
        models=(StandInModel("club-almanac"), StandInModel("club-clerk")),
        deployments=True,
    ),
    StandIn(
        "ferry",
        "chat",
        path="/regions/{region}/v1",
        doors=(Tokens("seed-library", "fr-77e0-marsh-lane-demo"),),
        variables={"FERRY_SECRET": "fr-77e0-marsh-lane-demo"},
        settings='values = { region = "north" }\n'
        'key = { oauth = "client_credentials", token_address = "{origin}/ferry/oauth/token", '
        'client_id = "seed-library", client_secret = { env = "FERRY_SECRET" } }\n',
        models=(StandInModel("barge-3", 16384), StandInModel("barge-3-south", 16384, regions=("south",))),
    ),
    StandIn(
        "lock",
        "chat",
        doors=(Signed("LOCKDEMOACCESSKEY", "lk-b81f-marsh-lane-demo", "north", "models"),),
        variables={"LOCK_ACCESS_KEY": "LOCKDEMOACCESSKEY", "LOCK_SECRET_KEY": "lk-b81f-marsh-lane-demo"},
        settings='key = { signature = "v4", region = "north", service = "models", '
        'access_key = { env = "LOCK_ACCESS_KEY" }, secret_key = { env = "LOCK_SECRET_KEY" } }\n',
        models=(StandInModel("sluice:1"),),
    ),
    StandIn(
        "kiosk",
        "chat",
        doors=(KeyQuery("key", "ks-2e6b-marsh-lane-demo"),),
        variables={"KIOSK_KEY": "ks-2e6b-marsh-lane-demo"},
        settings='key = { env = "KIOSK_KEY" }\nsend_key = "query:key"\n',
        models=(StandInModel("leaflet-1"),),
    ),
    StandIn(
        "gate",
        "chat",
        doors=(UserPassword("grower:gt-66a1-marsh-lane-demo"),),
        variables={"GATE_LOGIN": "grower:gt-66a1-marsh-lane-demo"},
        settings='key = { env = "GATE_LOGIN" }\nsend_key = "basic"\n',
        models=(StandInModel("hinge-1"),),
    ),
    StandIn(
        "toll",
        "chat",
        doors=(Bearer("tl-0c5d-marsh-lane-demo"), NoCredit()),
        variables={"TOLL_KEY": "tl-0c5d-marsh-lane-demo"},
        settings='key = { env = "TOLL_KEY" }\n',
        models=(StandInModel("penny-1"),),
    ),
    StandIn(
        "letterbox",
        "messages",
        doors=(KeyHeader("x-api-key", "lb-8d17-marsh-lane-demo"), WantsHeader("x-letterbox-version", ("2026-02-01",))),
        variables={"LETTERBOX_KEY": "lb-8d17-marsh-lane-demo"},
        settings='key = { env = "LETTERBOX_KEY" }\n'
        'send_key = "header:x-api-key"\n'
        'headers = { "x-letterbox-version" = "2026-02-01" }\n',
        models=(StandInModel("envelope-2", 32768), StandInModel("postcard-2", 8192)),
    ),
    StandIn(
        "canal",
        "contents",
        path="/v1beta",
        doors=(KeyQuery("key", "cn-4b20-marsh-lane-demo"),),
        variables={"CANAL_KEY": "cn-4b20-marsh-lane-demo"},
        settings='key = { env = "CANAL_KEY" }\nsend_key = "query:key"\n',
        models=(
            StandInModel("narrow-3", 32768),
            StandInModel("narrow-3-quick", 32768),
            StandInModel("lock-embed-1", vectors=64),
        ),
    ),
    StandIn(
        "echo",
        "responses",
        doors=(Bearer("ec-95aa-marsh-lane-demo"),),
        variables={"ECHO_KEY": "ec-95aa-marsh-lane-demo"},
        settings='key = { env = "ECHO_KEY" }\n',
        models=(
            StandInModel("valley-4", 32768),
            StandInModel("valley-4-light", 32768),
            StandInModel("valley-embed", vectors=64),
        ),
    ),
    StandIn("scroll", "prompt", models=(StandInModel("vellum-base", 4096),)),
    StandIn(
        "barn",
        "lines",
        path="",
        models=(
            StandInModel("loam-2b:latest", 4096),
            StandInModel("clay-7b:q4", 8192),
            StandInModel("petal-embed:latest", vectors=64),
        ),
    ),
    StandIn(
        "mill",
        "predict",
        path="/v1/projects/seed-library/locations/{region}/publishers/mill/models",
        doors=(Bearer("ml-72d4-marsh-lane-demo"),),
        variables={"MILL_KEY": "ml-72d4-marsh-lane-demo"},
        settings='values = { region = "north" }\n'
        'key = { env = "MILL_KEY" }\n'
        'instance = { image = "/image/bytesBase64Encoded" }\n',
        models=(StandInModel("grist-1", 16384), StandInModel("grist-embed-1", vectors=64)),
    ),
    StandIn(
        "kiln",
        "jobs",
        doors=(Bearer("kl-19be-marsh-lane-demo"),),
        variables={"KILN_KEY": "kl-19be-marsh-lane-demo"},
        settings='key = { env = "KILN_KEY" }\n',
        models=(StandInModel("potters/clinker-7b", 8192, version="5f" * 32),),
    ),
    StandIn(
        "quay",
        "converse",
        path="",
        doors=(
            Either(
                "Bearer",
                Bearer("qy-0e52-marsh-lane-demo"),
                Signed("QUAYDEMOACCESSKEY", "qy-a7c9-marsh-lane-demo", "north", "models"),
            ),
        ),
        variables={
            "QUAY_KEY": "qy-0e52-marsh-lane-demo",
            "QUAY_ACCESS_KEY": "QUAYDEMOACCESSKEY",
            "QUAY_SECRET_KEY": "qy-a7c9-marsh-lane-demo",
        },
        settings='key = { signature = "v4", region = "north", service = "models", '
        'access_key = { env = "QUAY_ACCESS_KEY" }, secret_key = { env = "QUAY_SECRET_KEY" } }\n',
        models=(StandInModel("hull.deck-2:0", 32768), StandInModel("hull.embed-1:0", vectors=64)),
    ),
    StandIn(
        "hall",
        "board",
        path="/v2",
        doors=(KeyHeader("x-hall-pass", "hl-6f08-marsh-lane-demo"),),
        variables={"HALL_PASS": "hl-6f08-marsh-lane-demo"},
        settings='key = { env = "HALL_PASS" }\nsend_key = "header:x-hall-pass"\n' + _BOARD,
        models=(StandInModel("cork-2", 8192),),
    ),
)


def by_label(label: str) -> StandIn:
    """The provider of that label."""
    return next(each for each in STAND_INS if each.label == label)
