"""Write the JSON Schemas anew: ``python docs/schemas/make.py``."""

import json
from pathlib import Path

from markbase.files.schemas import SCHEMAS

HERE = Path(__file__).resolve().parent


def main() -> None:
    """Write a file for each."""
    for name, schema in SCHEMAS.items():
        text = json.dumps(schema(), ensure_ascii=False, indent=2)
        (HERE / f"{name}.schema.json").write_text(f"{text}\n", encoding="utf-8")


if __name__ == "__main__":
    main()
