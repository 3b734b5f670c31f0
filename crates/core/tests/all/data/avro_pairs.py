"""Makes avro_pairs.jsonl.zst: pairs of schemas, and whether each reads what the other writes by the `avro` package's own check.

Run once with `pip install avro==1.12.2 zstandard` and `python3 avro_pairs.py`; the seed is fixed.
Each line is [schema a, schema b, a reads b, b reads a].
"""

import copy
import json
import random

import zstandard
from avro.compatibility import ReaderWriterCompatibilityChecker, SchemaCompatibilityType
from avro.errors import AvroException
from avro.schema import parse

PRIMITIVES = ["null", "boolean", "int", "long", "float", "double", "bytes", "string"]
NAMES = ["bin", "room", "grade", "weight", "picked", "buyer"]
SYMBOLS = ["A", "B", "C", "D"]
rng = random.Random(20261125)


class Names:
    def __init__(self):
        self.given = 0

    def new(self, word):
        self.given += 1
        return f"{word}{self.given}"


def default_of(schema):
    """A default for some kinds of schemas, else None for none."""
    if isinstance(schema, list):
        return default_of(schema[0]) if schema else None
    kind = schema if isinstance(schema, str) else schema["type"]
    simple = {"null": (None,), "boolean": (True,), "int": (7,), "long": (7,), "double": (1.5,), "string": ("x",)}
    return simple.get(kind)


def make(names, depth):
    kinds = ["primitive"] * 5 + (["array", "map", "union", "record", "enum", "fixed"] if depth else [])
    kind = rng.choice(kinds)
    if kind == "primitive":
        return rng.choice(PRIMITIVES)
    if kind == "array":
        return {"type": "array", "items": make(names, depth - 1)}
    if kind == "map":
        return {"type": "map", "values": make(names, depth - 1)}
    if kind == "enum":
        made = {"type": "enum", "name": names.new("Enum"), "symbols": rng.sample(SYMBOLS, rng.randint(1, 4))}
        if rng.random() < 0.3:
            made["default"] = made["symbols"][0]
        return made
    if kind == "fixed":
        return {"type": "fixed", "name": names.new("Fixed"), "size": rng.choice([2, 4])}
    if kind == "union":
        branches = []
        for branch in [make(names, depth - 1) for _ in range(rng.randint(1, 3))]:
            own = branch if isinstance(branch, str) else branch["type"] if not isinstance(branch, list) else None
            if own and own not in [b if isinstance(b, str) else b["type"] for b in branches]:
                branches.append(branch)
        return branches or ["null"]
    return record(names, depth)


def record(names, depth):
    fields = []
    for name in rng.sample(NAMES, rng.randint(1, 4)):
        field = {"name": name, "type": make(names, depth - 1)}
        default = default_of(field["type"])
        if default and rng.random() < 0.4:
            field["default"] = default[0]
        fields.append(field)
    return {"type": "record", "name": names.new("Record"), "fields": fields}


def places(schema, out):
    out.append(schema)
    if isinstance(schema, list):
        for branch in schema:
            places(branch, out)
    elif isinstance(schema, dict):
        for field in schema.get("fields", []):
            places(field["type"], out)
        for key in ("items", "values"):
            if key in schema:
                places(schema[key], out)
    return out


def change(schema, names):
    """One small change somewhere in a schema."""
    target = rng.choice([p for p in places(schema, []) if not isinstance(p, str)] or [None])
    if target is None:
        return rng.choice(PRIMITIVES)
    if isinstance(target, list):
        how = rng.choice(["add", "drop"])
        kinds = [b if isinstance(b, str) else b["type"] for b in target]
        if how == "add" and (left := [p for p in PRIMITIVES if p not in kinds]):
            target.append(rng.choice(left))
        elif len(target) > 1:
            target.pop(rng.randrange(len(target)))
        return schema
    kind = target["type"]
    if kind in ("array", "map"):
        target["items" if kind == "array" else "values"] = rng.choice(PRIMITIVES)
    elif kind == "enum":
        how = rng.choice(["symbols", "default", "name", "alias"])
        if how == "symbols":
            target["symbols"] = rng.sample(SYMBOLS, rng.randint(1, 4))
            target.pop("default", None)
        elif how == "default":
            target["default"] = target["symbols"][0]
        else:
            rename(target, names, how)
    elif kind == "fixed":
        if rng.random() < 0.5:
            target["size"] = rng.choice([2, 4])
        else:
            rename(target, names, rng.choice(["name", "alias"]))
    else:
        change_record(target, names)
    return schema


def rename(target, names, how):
    old = target["name"]
    target["name"] = names.new("Other")
    if how == "alias":
        target["aliases"] = [old]


def change_record(target, names):
    how = rng.choice(["add", "add with default", "drop", "type", "rename", "alias", "record name", "record alias", "default"])
    fields = target["fields"]
    field = rng.choice(fields)
    if how.startswith("add"):
        left = [n for n in NAMES if n not in [f["name"] for f in fields]]
        if left:
            new = {"name": rng.choice(left), "type": rng.choice(["int", "string", ["null", "string"]])}
            if how != "add":
                new["default"] = default_of(new["type"])[0]
            fields.insert(rng.randrange(len(fields) + 1), new)
    elif how == "drop" and len(fields) > 1:
        fields.remove(field)
    elif how == "type":
        old = field["type"]
        field.pop("default", None)
        wider = {"int": ["long", "double", ["null", "int"]], "long": ["float", "int"], "string": ["bytes"], "bytes": ["string"]}
        field["type"] = rng.choice(wider.get(old, PRIMITIVES) if isinstance(old, str) else PRIMITIVES)
    elif how in ("rename", "alias"):
        old = field["name"]
        field["name"] = f"{old}_now"
        if how == "alias":
            field["aliases"] = [old]
    elif how in ("record name", "record alias"):
        rename(target, names, "alias" if how == "record alias" else "name")
    elif how == "default":
        default = default_of(field["type"])
        if default:
            field["default"] = default[0]


def defaults_fit(schema):
    """A change of a union may have taken the branch away that a default stands for."""
    kinds = {type(None): "null", bool: "boolean", int: "int", float: "double", str: "string"}
    for place in places(schema, []):
        for field in place.get("fields", []) if isinstance(place, dict) else []:
            if "default" in field and isinstance(field["type"], list):
                branches = [b if isinstance(b, str) else b["type"] for b in field["type"]]
                kind = kinds[type(field["default"])]
                if kind not in branches and not (kind == "int" and "long" in branches):
                    return False
    return True


def reads(reader, writer):
    found = ReaderWriterCompatibilityChecker().get_compatibility(parse(json.dumps(reader)), parse(json.dumps(writer)))
    return found.compatibility is SchemaCompatibilityType.compatible


def main():
    lines, wanted = [], 2400
    while len(lines) < wanted:
        names = Names()
        first = record(names, 3) if rng.random() < 0.8 else make(names, 2)
        second = copy.deepcopy(first)
        for _ in range(rng.choice([1, 1, 2, 3])):
            second = change(second, names)
        if not (defaults_fit(first) and defaults_fit(second)):
            continue
        try:
            lines.append(json.dumps([first, second, reads(first, second), reads(second, first)], separators=(",", ":")))
        except AvroException:  # a change that left no schema
            continue
    text = ("\n".join(lines) + "\n").encode()
    with open("avro_pairs.jsonl.zst", "wb") as out:
        out.write(zstandard.ZstdCompressor(level=19).compress(text))
    both = [json.loads(line) for line in lines]
    print(len(lines), "pairs;", sum(a for _, _, a, _ in both), "read one way,", sum(b for *_, b in both), "the other")


main()
