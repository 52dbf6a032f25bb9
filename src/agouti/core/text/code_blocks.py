"""Code in an answer: the fenced blocks of its Markdown, and what each of them would be called as a file.

Source: CommonMark 0.31, "Fenced code blocks".
"""

import re
import sys
from typing import TypeVar

from msgspec import Struct

_OPEN = re.compile(r"^( {0,3})(`{3,}|~{3,})[ \t]*([^\n]*)$")
_SUFFIXES = {
    "python": ".py", "py": ".py", "toml": ".toml", "json": ".json", "jsonl": ".jsonl", "yaml": ".yaml", "yml": ".yaml",
    "bash": ".sh", "sh": ".sh", "shell": ".sh", "zsh": ".sh", "javascript": ".js", "js": ".js", "typescript": ".ts",
    "ts": ".ts", "tsx": ".tsx", "jsx": ".jsx", "html": ".html", "css": ".css", "sql": ".sql", "rust": ".rs",
    "go": ".go",
    "java": ".java", "c": ".c", "cpp": ".cpp", "c++": ".cpp", "csharp": ".cs", "ruby": ".rb", "php": ".php",
    "markdown": ".md", "md": ".md", "xml": ".xml", "csv": ".csv", "r": ".r", "kotlin": ".kt", "swift": ".swift",
    "lua": ".lua", "ini": ".ini", "diff": ".diff", "dockerfile": ".dockerfile", "makefile": ".mk", "svg": ".svg",
    "latex": ".tex", "tex": ".tex", "powershell": ".ps1", "text": ".txt", "txt": ".txt",
}  # fmt: skip
_NAME_LINE = re.compile(
    r"^\s*(?:#|//|--|;|<!--|/\*)\s*(?:file(?:name)?:\s*)?([\w.\-/]+\.[A-Za-z0-9]{1,8})\s*(?:-->|\*/)?\s*$"
)
_NAME_WORD = re.compile(r"(?:title|file|filename|name)=[\"']?([\w.\-/ ]+\.[A-Za-z0-9]{1,8})[\"']?")
_PLAIN_NAME = re.compile(r"[\w.\-]+\.[A-Za-z0-9]{1,8}")


# Longer names are none that somebody would type, and than some file systems take.
_LONGEST = 100
# Files that programs obey or run because they find them in the folder.
_OBEYED = frozenset(
    """
    agouti.toml conftest.py sitecustomize.py usercustomize.py setup.py setup.cfg pyproject.toml tox.ini pytest.ini
    noxfile.py tasks.py fabfile.py manage.py makefile gnumakefile justfile rakefile dockerfile package.json
    tsconfig.json vite.config.js webpack.config.js gruntfile.js gulpfile.js cargo.toml build.rs go.mod desktop.ini
    autorun.inf env.sh profile.ps1 poetry.toml uv.toml pip.conf pip.ini mypy.ini ruff.toml
    """.split()  # noqa: SIM905 - a list of as many lines is read by nobody
)


def runs_by_itself(name: str) -> bool:
    """Whether some program would run or obey a file of that name when it finds one in its folder.

    >>> runs_by_itself("conftest.py"), runs_by_itself("random.py"), runs_by_itself("days.py")
    (True, True, False)
    """
    folded = name.lower()
    stem, _, suffix = folded.rpartition(".")
    # A module in the working folder is imported instead of the one of that name that everybody means.
    hides = suffix in ("py", "pyw", "pyi", "so", "pyd") and (
        stem in sys.stdlib_module_names or stem in sys.modules or stem in _IMPORTED
    )
    return folded in _OBEYED or hides or suffix in ("pth", "desktop", "lnk")


_IMPORTED = frozenset({"agouti", "msgspec", "urllib3", "aiohttp", "dotenv", "platformdirs", "click", "rich", "tomlkit"})


class CodeBlock(Struct, frozen=True):
    """A block of code.

    Attributes:
        code: what is in it.
        language: the first word behind the fence, in lower case; empty where there is none.
        name: the file that the answer says it is; empty where it says none.
        number: its number in the answer, from 1.
        whole: whether its fence was closed; a truncated answer may end within.
    """

    code: str
    language: str = ""
    name: str = ""
    number: int = 1
    whole: bool = True

    @property
    def suffix(self) -> str:
        """The suffix of a file with it, by its language.

        >>> CodeBlock("x = 1", "python").suffix, CodeBlock("x").suffix
        ('.py', '.txt')
        """
        return _SUFFIXES.get(self.language, ".txt")

    @property
    def file_name(self) -> str:
        """What a file with it is called: its own name without folders, or ``block-1.py`` where a program would run or
        obey a file of that name without being told to.

        >>> CodeBlock("x", "toml", "agouti.toml").file_name, CodeBlock("x", "python", "json.py").file_name
        ('block-1.toml', 'block-1.py')
        """
        file_name = re.split(r"[/\\]", self.name)[-1].lstrip(".-") if self.name else ""
        if not _PLAIN_NAME.fullmatch(file_name) or len(file_name) > _LONGEST or runs_by_itself(file_name):
            return f"block-{self.number}{self.suffix}"
        return file_name


Block = TypeVar("Block", bound=CodeBlock)


def code_blocks(text: str, kind: type[Block]) -> tuple[Block, ...]:
    """The fenced blocks of a text, as blocks of a kind.

    >>> [(block.language, block.code) for block in code_blocks("Try:\\n```python\\nprint(1)\\n```\\nDone.", CodeBlock)]
    [('python', 'print(1)\\n')]
    """
    blocks: list[Block] = []
    lines = text.splitlines(keepends=True)
    row = 0
    while row < len(lines):
        opened = _OPEN.match(lines[row].rstrip("\r\n"))
        if opened is None or (opened[2][0] == "`" and "`" in opened[3]):
            row += 1
            continue
        indent, fence, info = len(opened[1]), opened[2], opened[3].strip()
        close = re.compile(rf"^ {{0,3}}{re.escape(fence[0])}{{{len(fence)},}}[ \t]*$")
        code: list[str] = []
        row += 1
        while row < len(lines) and not close.match(lines[row].rstrip("\r\n")):
            line = lines[row]
            code.append(line[min(indent, len(line) - len(line.lstrip(" "))) :])
            row += 1
        is_complete = row < len(lines)
        row += 1
        blocks.append(_block(kind, code, info, len(blocks) + 1, is_complete))
    return tuple(blocks)


def _block(kind: type[Block], code: list[str], info: str, number: int, is_complete: bool) -> Block:
    first_word, _, info_rest = info.partition(" ")
    language, _, path_text = first_word.strip("{}.").partition(":")
    named = _NAME_WORD.search(info) or (_NAME_LINE.match(code[0]) if code else None)
    name = named[1] if named else ""
    if not name and _PLAIN_NAME.fullmatch(path_text or info_rest.strip()):
        name = path_text or info_rest.strip()
    if not name and _PLAIN_NAME.fullmatch(language) and language.rpartition(".")[2] in _SUFFIXES:
        name, language = language, language.rpartition(".")[2]
    return kind("".join(code), language.lower(), name, number, is_complete)
