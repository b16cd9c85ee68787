"""Every document that --json prints is as its schema says, and every command has one."""

import json
from pathlib import Path

import jsonschema
import pytest

from .json_story import SKIPPED, story
from .test_vocabulary import KNOWN

SCHEMAS = Path(__file__).parents[1] / "docs" / "json"
ANEW = "write them anew: python tools/make_schemas.py"


def schema_of(command):
    return json.loads((SCHEMAS / f"{'-'.join(command)}.schema.json").read_text())


def with_json():
    return {path for path, command in KNOWN.items() if any(p.name == "as_json" for p in command.params)}


def test_every_command_with_json_has_a_schema_or_a_reason():
    there = {tuple(p.name.removesuffix(".schema.json").split("-")) for p in SCHEMAS.glob("*.json")}
    known = {"-".join(path) for path in with_json()}
    assert {"-".join(t) for t in there} | {"-".join(s) for s in SKIPPED} == known, ANEW
    for path in SCHEMAS.glob("*.json"):
        schema = json.loads(path.read_text())
        jsonschema.Draft202012Validator.check_schema(schema)
        assert schema["$id"].startswith(f"faithful-stripe/json/{path.name.removesuffix('.schema.json')}/")
    listed = (SCHEMAS.parent / "json.md").read_text()
    assert all(path.name in listed for path in SCHEMAS.glob("*.json")), ANEW


@pytest.mark.long
def test_documents_are_as_their_schemas_say(fstripe, tmp_path, volumes):
    count = 0
    for command, document in story(fstripe, tmp_path, volumes / "ext4-nocsum.img"):
        jsonschema.validate(document, schema_of(command), jsonschema.Draft202012Validator)
        count += 1
    assert count > 60


@pytest.mark.parametrize("command", [("survey",), ("bays",), ("weigh",)])
def test_a_document_without_a_key_is_not_valid(fstripe, skerry, command):
    words = {"weigh": ("--drives", "4", "--size", "4TB")}.get(command[0], ())
    document = fstripe("--at", "skerry", *command, *words, "--json").json
    schema = schema_of(command)
    jsonschema.validate(document, schema, jsonschema.Draft202012Validator)
    del document[schema["required"][0]]
    with pytest.raises(jsonschema.ValidationError):
        jsonschema.validate(document, schema, jsonschema.Draft202012Validator)
