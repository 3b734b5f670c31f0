#!/usr/bin/env bash
# A client for the interface, made from its document by a generator that nobody here wrote.
#   api-client.sh TOOLS DOCUMENT FOLDER   a folder for the generator, kept between runs; the client comes into FOLDER/gonvel_client
set -euo pipefail
tools=$(realpath --canonicalize-missing "$1") document=$(realpath "$2") folder=$3

"$(dirname "$0")/need-packages.sh" python3=python3 "/usr/lib/python3*/ensurepip=python3-venv"
needs=$(realpath "$(dirname "$0")/api-client.txt")
if ! cmp -s "$needs" "$tools/has.txt"; then
  rm -rf "$tools"
  python3 -m venv "$tools"
  "$tools/bin/pip" install --quiet --disable-pip-version-check --no-deps -r "$needs"
  cp "$needs" "$tools/has.txt"
fi
"$tools/bin/openapi-python-client" generate --path "$document" --meta none --output-path "$folder/gonvel_client"
