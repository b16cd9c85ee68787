"""Makes the JSON Schemas of what commands print with --json anew, from what they print in a long story.

    python tools/make_schemas.py

One file a command, in `docs/json/`, and the page that lists them. A key is required where every document of the story
has it; what else a document may have is not forbidden: later versions add keys. What a server does not tell is null, so
every value may be. A test holds fresh documents against the schemas. Raise VERSION when a key goes or changes its
meaning.
"""

import json
import sys
import tempfile
from pathlib import Path
from typing import Any

sys.path.insert(0, str(Path(__file__).resolve().parents[1]))

from tests import cutting
from tests.conftest import Runner
from tests.json_story import story

DOCS = Path(__file__).parents[1] / "docs" / "json"
VERSION = 2
MAPS = {"attributes", "settings", "rows", "setup", "facts", "counts"}
"""Objects whose keys are names of things, not fields."""
MOST_FIELDS = 60


def main() -> None:
    with tempfile.TemporaryDirectory() as place:
        folder = Path(place)
        (folder / "volumes").mkdir()
        cutting.unpack(folder / "volumes")
        (folder / "work").mkdir()
        said: dict[tuple[str, ...], list[Any]] = {}
        for command, document in story(Runner(folder / "work"), folder / "work", folder / "volumes/ext4-nocsum.img"):
            said.setdefault(command, []).append(document)
    DOCS.mkdir(exist_ok=True)
    for old in DOCS.glob("*.schema.json"):
        old.unlink()
    for command, documents in said.items():
        name = "-".join(command)
        schema = {
            "$schema": "https://json-schema.org/draft/2020-12/schema",
            "$id": f"faithful-stripe/json/{name}/{VERSION}",
            "title": f"fstripe {' '.join(command)} --json",
            **shape_of(documents),
        }
        (DOCS / f"{name}.schema.json").write_text(json.dumps(schema, indent=1) + "\n", encoding="utf-8")
    (DOCS.parent / "json.md").write_text(page(sorted(said)), encoding="utf-8")


def page(commands: list[tuple[str, ...]]) -> str:
    """The page of the manual that lists them."""
    rows = [
        f"| `fstripe {' '.join(c)} --json` | [{'-'.join(c)}.schema.json](json/{'-'.join(c)}.schema.json) |"
        for c in commands
    ]
    return "\n".join([
        "# What commands print with --json", "",
        "One JSON document on standard output and nothing else there; an error is `{\"error\": {...}}` with `what`,",
        "`to_do` and `exit_status`. Each command's document has a JSON Schema (draft 2020-12), whose `$id` ends with",
        "its version. Keys may be added; the version is raised when one goes or changes its meaning. What a server",
        "does not tell is null. Sizes are bytes, times ISO 8601 with offset.", "",
        "Without a schema: `demo` (a lesson for people), `swap` (it waits for hands), `bench serve` and `lineup serve`",
        "(one document, then they serve).", "", "| command | schema |", "|---|---|", *rows, "",
    ])  # fmt: skip


def shape_of(values: list[Any], key: str = "") -> dict[str, Any]:
    """The schema of values that stand in one place."""
    kinds = {kind_of(v) for v in values}
    if {"integer", "number"} <= kinds:
        kinds.remove("integer")
    if kinds and kinds <= {"null"}:
        return {}
    if kinds - {"object", "array"}:
        kinds.add("null")  # what a server does not tell
    shape: dict[str, Any] = {"type": min(kinds) if len(kinds) == 1 else sorted(kinds)} if kinds else {}
    objects = [v for v in values if isinstance(v, dict)]
    if objects:
        names = list(dict.fromkeys(name for v in objects for name in v))
        if key in MAPS or len(names) > MOST_FIELDS:
            shape["additionalProperties"] = shape_of([x for v in objects for x in v.values()])
        else:
            shape["properties"] = {n: shape_of([v[n] for v in objects if n in v], n) for n in names}
            needed = [n for n in names if all(n in v for v in objects)]
            if needed:
                shape["required"] = needed
    items = [x for v in values if isinstance(v, list) for x in v]
    if items:
        shape["items"] = shape_of(items)
    return shape


def kind_of(value: Any) -> str:
    if value is None:
        return "null"
    names = {bool: "boolean", int: "integer", float: "number", str: "string", list: "array", dict: "object"}
    return names[type(value)]


if __name__ == "__main__":
    main()
