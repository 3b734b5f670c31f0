#!/usr/bin/env bash
# A client for the interface, made from its document by a generator that nobody here wrote.
#   api-client.sh TOOLS DOCUMENT FOLDER   a folder for the generator, kept between runs; the client comes into FOLDER/gonvel_client
set -euo pipefail
tools=$(realpath --canonicalize-missing "$1") document=$(realpath "$2") folder=$3

"$(dirname "$0")/need-packages.sh" python3=python3 "/usr/lib/python3*/ensurepip=python3-venv"
if [ ! -x "$tools/bin/openapi-python-client" ]; then
  rm -rf "$tools"
  python3 -m venv "$tools"
  "$tools/bin/pip" install --quiet --disable-pip-version-check openapi-python-client==0.29.1
fi
"$tools/bin/openapi-python-client" generate --path "$document" --meta none --output-path "$folder/gonvel_client"
