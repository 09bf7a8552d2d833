"""The JSON schemas of all that is printed and read, made from the code: `python -m scripts.schemas DIR`."""

from __future__ import annotations

import json
import pkgutil
import re
import sys
from collections.abc import Iterable, Iterator
from pathlib import Path
from typing import Any, get_args, get_type_hints

from pydantic import TypeAdapter

from hooper.files import MADE_BY
from hooper.site.fields import OWN_KEY
from hooper.site.model import Site
from hooper.words.data import data
from hooper.words.said import Said

ROOT = Path(__file__).parents[1]
SHIPPED = ROOT / "src" / "hooper" / "site" / "site.schema.json"  # in the wheel, for `hooper schema`
CONTRACT = json.loads(Path(__file__).with_name("contract.json").read_bytes())  # documents, what all have, errors
SHARED: dict[str, str] = data("fields")  # what fields mean that mean the same everywhere
_DIALECT = "https://json-schema.org/draft/2020-12/schema"
_HEAD: dict[str, Any] = CONTRACT["head"]


def _closed(schema: Any) -> Any:
    """Every object closed and every key required; titles and defaults, which pydantic adds, left out."""
    if isinstance(schema, list):
        return [_closed(item) for item in schema]
    if not isinstance(schema, dict):
        return schema
    out: dict[str, Any] = {}
    for key, value in schema.items():
        if key == "properties":
            out[key] = {_shown(name): _closed(item) for name, item in value.items()}
        elif key == "$defs":
            out[key] = {name: _closed(item) for name, item in value.items()}
        elif key not in ("title", "default"):
            out[key] = _closed(value)
    if "properties" in out and out.get("type") == "object":
        out["required"] = list(out["properties"])
        out["additionalProperties"] = False
    return out


def _classes(kind: Any) -> Iterator[type]:
    """The document classes that a type is made of, itself included."""
    for argument in get_args(kind):
        yield from _classes(argument)
    if kind is Said:  # a sentence, where it is printed
        return
    if isinstance(kind, type) and kind.__module__.startswith("hooper.") and hasattr(kind, "__annotations__"):
        yield kind
        for inner in get_type_hints(kind).values():
            yield from _classes(inner)


def _shown(name: str) -> str:
    """A field as it is printed: `from_` avoids a keyword of Python."""
    return name.rstrip("_")


def _explain(schema: dict[str, Any], kind: type) -> None:
    """Add what the class says of itself and of its fields."""
    properties = schema.get("properties", {})
    summary, texts = field_texts(kind.__doc__ or "", [_shown(name) for name in properties])
    schema["description"] = summary
    for name, field in properties.items():
        text = texts.get(_shown(name)) or SHARED.get(_shown(name))
        if text and (_shown(name) in texts or field.get("description") in (None, OWN_KEY)):
            field["description"] = text


def _explained(made: dict[str, Any], kind: type) -> dict[str, Any]:
    """A schema as pydantic made it, with what its classes say of their fields."""
    classes = {inner.__name__: inner for inner in _classes(kind)}
    _explain(made, kind)
    for key, inner in made.get("$defs", {}).items():
        _explain(inner, classes[key])
    return made


def document_schema(name: str) -> dict[str, Any]:
    """The schema of one command's document. A command that fails before it has data prints errors.schema.json."""
    kind = pkgutil.resolve_name(CONTRACT["documents"][name]) if name != "errors" else None
    told = "What any command prints that fails before it has data: nothing but `errors`."
    body: dict[str, Any] = {"description": told}
    if kind is not None:
        body = _closed(_explained(TypeAdapter(kind).json_schema(mode="serialization"), kind))
    properties = {**_HEAD, **body.get("properties", {}), "errors": CONTRACT["errors"]}
    optional = {} if name == "errors" else {"errors": None} if name != "lab" else properties.keys() - _HEAD
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
    return {"$schema": _DIALECT, "$comment": MADE_BY.decode(), **_explained(Site.model_json_schema(), Site)}


def all_schemas() -> dict[str, str]:
    """File name and text of each schema."""
    schemas = {f"{name}.schema.json": document_schema(name) for name in (*CONTRACT["documents"], "errors")}
    schemas["site.schema.json"] = site_schema()
    return {name: json.dumps(schema, indent=2, ensure_ascii=False) + "\n" for name, schema in schemas.items()}


def write_schemas(folder: Path) -> None:
    folder.mkdir(parents=True, exist_ok=True)
    for name, text in all_schemas().items():
        place = SHIPPED if name == SHIPPED.name else folder / name
        place.write_text(text, encoding="utf-8")


def field_texts(documentation: str, fields: Iterable[str]) -> tuple[str, dict[str, str]]:
    """A class's summary and the text of each field that its docstring explains.

    documentation: sentences, then `field: text.` for one field or `field, field: text.` for several.
    """
    names = sorted(fields, key=len, reverse=True)
    texts: dict[str, str] = {}
    whole = " ".join(documentation.split())
    if not names:
        return whole, texts
    either = "|".join(map(re.escape, names))
    marks = list(re.finditer(rf"(?:^|(?<=[.;:?!] ))((?:{either})(?:, (?:{either}))*): ", whole))
    ends = [*(mark.start() for mark in marks[1:]), len(whole)]
    for mark, end in zip(marks, ends, strict=False):
        text = whole[mark.end() : end].rstrip(" ;.")
        texts |= {name: f"{text[:1].upper()}{text[1:]}." for name in mark[1].split(", ")}
    return whole[: marks[0].start() if marks else None].rstrip(), texts


if __name__ == "__main__":
    write_schemas(Path(sys.argv[1]))
