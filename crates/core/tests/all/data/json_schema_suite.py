"""Makes json_schema_suite.json.zst from the public JSON Schema test suite that ships in the source package of `jsonschema`.

Run once with `pip download jsonschema==4.26.0 --no-deps --no-binary :all:`, `pip install zstandard` and
`python3 json_schema_suite.py jsonschema-4.26.0.tar.gz`. Each entry is {"draft", "about", "schema", "tests": [{"data", "valid", ...}]}.
"""

import json
import sys
import tarfile

import zstandard

entries = []
with tarfile.open(sys.argv[1]) as package:
    for member in sorted(package.getmembers(), key=lambda m: m.name):
        parts = member.name.split("/")
        # what is optional in the suite is left out: formats and the like
        if len(parts) != 5 or parts[1:3] != ["json", "tests"] or parts[3] not in ("draft7", "draft2020-12"):
            continue
        for case in json.load(package.extractfile(member)):
            about = f"{parts[4]}: {case['description']}"
            entries.append({"draft": parts[3], "about": about, "schema": case["schema"], "tests": case["tests"]})
with open("json_schema_suite.json.zst", "wb") as out:
    out.write(zstandard.ZstdCompressor(level=19).compress(json.dumps(entries, separators=(",", ":")).encode()))
print(len(entries), "schemas,", sum(len(e["tests"]) for e in entries), "values")
