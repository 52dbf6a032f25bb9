"""What has to be in a wheel and a source archive, and what must not be: python .ci/contents.py FILE..."""

import sys
import tarfile
import zipfile

WANTED = {
    ".whl": (
        "agouti/py.typed",
        "agouti/config/agouti.schema.json",
        "agouti/relay/page.html",
        "agouti/relay/sign_in.html",
        "licenses/LICENSE",
        "entry_points.txt",
    ),
    ".gz": ("src/agouti/py.typed", "tests/conftest.py", "CHANGELOG.md", "SECURITY.md", "LICENSE", "mkdocs.yml"),
}
UNWANTED = ("__pycache__", ".sqlite", ".env", "relay-tokens", ".pyc")

for path in sys.argv[1:]:
    if path.endswith(".whl"):
        with zipfile.ZipFile(path) as wheel:
            names = wheel.namelist()
        wrong = [name for name in names if not name.startswith("agouti")]
    else:
        with tarfile.open(path) as archive:
            names = archive.getnames()
        wrong = []
    wrong += [name for name in names if any(part in name for part in UNWANTED)]
    missing = [end for end in WANTED["." + path.rpartition(".")[2]] if not any(name.endswith(end) for name in names)]
    if wrong or missing:
        sys.exit(f"{path}: not in it: {missing}; should not be in it: {wrong[:10]}")
    print(f"{path.rpartition('/')[2]}: {len(names)} files")
