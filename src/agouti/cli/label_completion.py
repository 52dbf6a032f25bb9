"""Labels on the command line: completed by the shell from the configuration."""

import click


class _Provider(click.types.StringParamType):
    """The label of a provider."""

    name = "label"

    def shell_complete(
        self, ctx: click.Context, param: click.Parameter, incomplete: str
    ) -> "list[click.shell_completion.CompletionItem]":
        from click.shell_completion import CompletionItem

        from ..config.load import load
        from ..core.errors import AgoutiError

        try:
            config = load(ctx.find_root().params.get("config"))
        except (AgoutiError, OSError):
            return []
        return [CompletionItem(each) for each in config.providers if each.startswith(incomplete)]


class _Label(click.types.StringParamType):
    """A label, or ``NAME@PROVIDER``; taken as it stands, and looked up by whoever uses it."""

    name = "label"

    def shell_complete(
        self, ctx: click.Context, param: click.Parameter, incomplete: str
    ) -> "list[click.shell_completion.CompletionItem]":
        from click.shell_completion import CompletionItem

        from ..config.load import load
        from ..core.errors import AgoutiError

        root = ctx.find_root()
        try:
            config = load(root.params.get("config"))
        except (AgoutiError, OSError):
            return []  # nobody reads an error while pressing a key
        name, at, _ = incomplete.rpartition("@")
        known = [f"{name}@{each}" for each in config.providers] if at and name else list(config.models)
        models = config.models
        return [
            CompletionItem(each, help=f"{models[each].name} of {models[each].provider}" if each in models else None)
            for each in known
            if each.startswith(incomplete)
        ]


LABEL = _Label()
PROVIDER = _Provider()
