"""Blocks of code in answers: found as Markdown has them, saved in the folder and nowhere else."""

from pathlib import Path

import pytest

import agouti
from agouti.replies.code_blocks import CodeBlock, code_blocks
from agouti.standins import Served


@pytest.mark.parametrize(
    ("text", "blocks"),
    [
        ("no code", []),
        ("```python\nx = 1\n```", [("python", "x = 1\n", "block-1.py", True)]),
        ("~~~\na\n```\nb\n~~~\n", [("", "a\n```\nb\n", "block-1.txt", True)]),
        ("````md\n```js\ny\n```\n````", [("md", "```js\ny\n```\n", "block-1.md", True)]),
        ("  ```sh\n  ls\n    -l\n  ```", [("sh", "ls\n  -l\n", "block-1.sh", True)]),
        ("```TOML title=\"agouti.toml\"\na\n```", [("toml", "a\n", "block-1.toml", True)]),
        ("```python:src/days.py\na\n```", [("python", "a\n", "block-1.py", True)]),
        ("```python\n# src/days.py\na\n```", [("python", "# src/days.py\na\n", "days.py", True)]),
        ("```days.py\na\n```", [("py", "a\n", "days.py", True)]),
        ("```python\nx = ", [("python", "x = ", "block-1.py", False)]),
        ("text ```inline``` text\n```a`b\n", []),
        ("```\na\n```\n```c++\nb\n```", [("", "a\n", "block-1.txt", True), ("c++", "b\n", "block-2.cpp", True)]),
        ("```\r\na\r\n```\r\n", [("", "a\r\n", "block-1.txt", True)]),
        ("```\n```", [("", "", "block-1.txt", True)]),
    ],
)  # fmt: skip
def test_blocks_are_found_as_markdown_has_them(text: str, blocks: list[tuple[str, str, str, bool]]) -> None:
    assert [(each.language, each.code, each.file_name, each.whole) for each in code_blocks(text)] == blocks


def test_saved_in_the_folder_and_never_over_another_file(tmp_path: Path) -> None:
    folder = tmp_path / "new" / "folder"
    block = CodeBlock("a\r\n", "python", "days.py")
    assert [block.save(folder).name for _ in range(3)] == ["days.py", "days-2.py", "days-3.py"]
    assert (folder / "days.py").read_bytes() == b"a\r\n"
    assert CodeBlock("b", "", "days.py").save(folder, overwrite=True).read_text() == "b"
    assert CodeBlock("c").save(folder, name="Makefile").name == "Makefile"
    assert CodeBlock("c").save(folder, name="Makefile").name == "Makefile-2"


@pytest.mark.parametrize(
    "name", ["../../evil.py", "/etc/passwd.txt", "..\\evil.py", "a/../../b.py", ".bashrc.sh", "~/x.sh"]
)
def test_name_that_leads_elsewhere_loses_its_folders(tmp_path: Path, name: str) -> None:
    saved = CodeBlock("x", "sh", name).save(tmp_path / "in")
    assert saved.parent == tmp_path / "in"
    assert not saved.name.startswith(".")
    with pytest.raises(agouti.RequestError):
        CodeBlock("x").save(tmp_path / "in", name="../x")


@pytest.mark.parametrize(
    "name",
    ["agouti.toml", "Conftest.py", "sitecustomize.py", "json.py", "click.py", "-rf.sh", "x" * 300 + ".py", "evil.pth"],
)
def test_nothing_is_saved_that_the_next_command_would_run(tmp_path: Path, name: str) -> None:
    saved = CodeBlock("x", "toml", name).save(tmp_path)
    assert saved.name in ("block-1.toml", "rf.sh")


def test_link_in_the_folder_is_not_followed(tmp_path: Path) -> None:
    (tmp_path / "in").mkdir()
    (tmp_path / "in" / "days.py").symlink_to(tmp_path / "outside.py")
    for overwrite in (False, True):
        assert CodeBlock("x", "python", "days.py").save(tmp_path / "in", overwrite=overwrite).name != "days.py"
    assert not (tmp_path / "outside.py").exists()
    (tmp_path / "file").write_text("")
    with pytest.raises(agouti.RequestError, match="cannot be written"):
        CodeBlock("x").save(tmp_path / "file")


def test_blocks_of_a_reply(served: Served, tmp_path: Path) -> None:
    with agouti.Client(served.config) as client:
        blocks = client.ask("almanac", "Write a function for the days to the frost.").code_blocks
    assert [block.save(tmp_path).name for block in blocks] == ["days.py", "block-2.toml"]
    compile((tmp_path / "days.py").read_text(), "days.py", "exec")
