"""Write the JSON Schema of agouti.toml into the package, made of the types: python docs/schema.py."""

import json
from pathlib import Path

from agouti.config import schema

TARGET = Path(schema.__file__).with_name(schema.FILE)

if __name__ == "__main__":
    TARGET.write_text(json.dumps(schema.schema(), indent=1, ensure_ascii=False) + "\n", encoding="utf-8")
    print(TARGET)
