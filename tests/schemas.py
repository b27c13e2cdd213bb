#!/usr/bin/env python3
"""Checks that the schemas of schema/ take every site file of the demo and of the tutorial, and refuse common mistakes."""
import json
import pathlib
import re
import sys

import jsonschema
import yaml

ROOT = pathlib.Path(__file__).resolve().parent.parent


class PlainLoader(yaml.SafeLoader):
    """Reads YAML as Zunth does: nothing is a date or a switch by its looks."""


PlainLoader.yaml_implicit_resolvers = {
    first: [(tag, pattern) for tag, pattern in resolvers if tag in ("tag:yaml.org,2002:null", "tag:yaml.org,2002:int")]
    for first, resolvers in yaml.SafeLoader.yaml_implicit_resolvers.items()
}
PlainLoader.yaml_implicit_resolvers.pop("=", None)


def load(text):
    return yaml.load(text, PlainLoader)


def validator(name):
    schema = json.loads((ROOT / "schema" / f"{name}.json").read_text())
    jsonschema.Draft202012Validator.check_schema(schema)
    return jsonschema.Draft202012Validator(schema)


SCHEMAS = {name: validator(name) for name in ("model", "site", "bindings", "device", "registers")}


def kind_of(path):
    if path.name == "site.yaml":
        return "site"
    return {"model": "model", "bindings": "bindings", "devices": "device", "registers": "registers"}.get(path.parent.name)


def documents():
    for path in sorted((ROOT / "demo").rglob("*.yaml")):
        if kind_of(path):
            yield kind_of(path), str(path.relative_to(ROOT)), path.read_text()
    for page in ("model-language.md", "tutorial.md"):
        for number, block in enumerate(re.findall(r"```yaml([^\n]*)\n(.*?)```", (ROOT / "docs" / page).read_text(), re.S)):
            if "Duoble" not in block[1]:
                yield "model", f"docs/{page}, block {number + 1}", block[1]


MISTAKES = [
    ("model", "objects: {A: Double}"),
    ("model", "namespace: urn:x\nobjekts: {A: Double}"),
    ("model", "namespace: urn:x\ntypes: {T: Double}"),
    ("model", "namespace: urn:x\nobjects: {A: {access: {Operator: raed}}}"),
    ("site", "name: x"),
    ("site", "uri: urn:x\nendpont: opc.tcp://127.0.0.1:4840"),
    ("site", "uri: urn:x\nlimits: {session: 5}"),
    ("bindings", "bindings: {A/x: nowhere}"),
    ("registers", "serve: modbus-tcp\nregisters: {A/x: input}"),
    ("registers", "serve: modbus\nregisters: {A/x: input 0}"),
]


def main():
    failures = 0
    count = 0
    for kind, name, text in documents():
        count += 1
        for error in SCHEMAS[kind].iter_errors(load(text)):
            failures += 1
            print(f"{name}: {'/'.join(map(str, error.path))}: {error.message[:200]}")
    for kind, text in MISTAKES:
        if SCHEMAS[kind].is_valid(load(text)):
            failures += 1
            print(f"schema/{kind}.json takes a mistake: {text!r}")
    print(f"{count} documents, {len(MISTAKES)} mistakes, {failures} failures")
    return 1 if failures or count < 8 else 0


if __name__ == "__main__":
    sys.exit(main())
