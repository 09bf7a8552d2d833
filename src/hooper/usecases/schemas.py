"""The JSON schemas of all that is printed and read, made from the code: `python -m hooper.usecases.schemas DIR`."""

from __future__ import annotations

import json
import sys
from pathlib import Path
from typing import Any

from pydantic import TypeAdapter

from hooper.site.model import Site
from hooper.usecases.documents import DOCUMENTS

_DIALECT = "https://json-schema.org/draft/2020-12/schema"
_HEAD: dict[str, Any] = {
    "hooper": {"type": "string", "description": "The version that printed this."},
    "command": {"type": "string"},
    "at": {"type": "string", "description": "When, as RFC 3339 writes it."},
    "world": {"enum": ["real", "lab"]},
}
_ERRORS: dict[str, Any] = {
    "type": "array",
    "minItems": 1,
    "items": {
        "type": "object",
        "properties": {
            "code": {"type": "string"},
            "message": {"type": "string"},
            "remedy": {"type": "string"},
            "where": {
                "anyOf": [
                    {"type": "null"},
                    {
                        "type": "object",
                        "properties": {
                            "file": {"type": "string"},
                            "line": {"type": ["integer", "null"]},
                            "column": {"type": ["integer", "null"]},
                            "path": {"type": ["string", "null"]},
                        },
                        "required": ["file", "line", "column", "path"],
                        "additionalProperties": False,
                    },
                ]
            },
        },
        "required": ["code", "message", "remedy", "where"],
        "additionalProperties": False,
    },
}


def _closed(schema: Any) -> Any:
    """Every object closed and every key required; titles and defaults, which pydantic adds, left out."""
    if isinstance(schema, list):
        return [_closed(item) for item in schema]
    if not isinstance(schema, dict):
        return schema
    out: dict[str, Any] = {}
    for key, value in schema.items():
        if key == "properties":
            out[key] = {name.rstrip("_"): _closed(item) for name, item in value.items()}
        elif key == "$defs":
            out[key] = {name: _closed(item) for name, item in value.items()}
        elif key not in ("title", "default"):
            out[key] = _closed(value)
    if "properties" in out and out.get("type") == "object":
        out["required"] = list(out["properties"])
        out["additionalProperties"] = False
    return out


def document_schema(name: str) -> dict[str, Any]:
    """The schema of one command's document. A command that fails before it has data prints errors.schema.json."""
    body = _closed(TypeAdapter(DOCUMENTS[name]).json_schema(mode="serialization"))
    properties = {**_HEAD, **body.get("properties", {}), "errors": _ERRORS}
    optional = set() if name == "errors" else {"errors"}
    schema = {
        "$schema": _DIALECT,
        "title": f"hooper {name.replace('-', ' ')}",
        "type": "object",
        "properties": properties,
        "required": [key for key in properties if key not in optional],
        "additionalProperties": False,
    }
    if body.get("description"):
        schema["description"] = body["description"]
    if body.get("$defs"):
        schema["$defs"] = body["$defs"]
    return schema


def site_schema() -> dict[str, Any]:
    """The schema of the site file, for editors."""
    return {"$schema": _DIALECT, **Site.model_json_schema()}


def all_schemas() -> dict[str, str]:
    """File name and text of each schema."""
    schemas = {f"{name}.schema.json": document_schema(name) for name in DOCUMENTS}
    schemas["site.schema.json"] = site_schema()
    return {name: json.dumps(schema, indent=2, ensure_ascii=False) + "\n" for name, schema in schemas.items()}


def write_schemas(folder: Path) -> None:
    folder.mkdir(parents=True, exist_ok=True)
    for name, text in all_schemas().items():
        (folder / name).write_text(text, encoding="utf-8")


if __name__ == "__main__":
    write_schemas(Path(sys.argv[1]))
