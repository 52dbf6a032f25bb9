"""The wire formats that are served, by name."""

from functools import cache

from .server_base import ServerFormat


@cache
def server_formats() -> dict[str, ServerFormat]:
    """Every format that is served.

    >>> [each.path for each in server_formats().values()]
    ['/chat/completions', '/completions', '/responses', '/messages']
    """
    from .chat.server import ChatFormat
    from .messages.server_request import MessagesFormat
    from .prompt.server import PromptFormat
    from .responses.server_request import ResponsesFormat

    formats: list[ServerFormat] = [ChatFormat(), PromptFormat(), ResponsesFormat(), MessagesFormat()]
    return {each.name: each for each in formats}


def error_format(path: str) -> ServerFormat:
    """The format in which an error is told at a path: that of its operation, or else the commonest.

    >>> error_format("/v1/messages/count_tokens").name, error_format("/v1/models").name
    ('messages', 'chat')
    """
    formats = list(server_formats().values())
    return next((each for each in formats if each.path in path), formats[0])
