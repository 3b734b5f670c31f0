#!/usr/bin/env bash
# Asks a demo of its own whatever its document allows, and much that it does not: no answer may be one that the document does not know, and none
# a failure. What asks is a fuzzer of others, by the document alone.
#   fuzz-http.sh GONVEL TOOLS SECONDS [SEED]   the program, a folder for the fuzzer, how long
set -euo pipefail
cd "$(dirname "$0")/.."
gonvel=$(realpath "$1") tools=$(realpath --canonicalize-missing "$2") seconds=$3 seed=${4:-}

if [ ! -x "$tools/bin/schemathesis" ]; then
  python3 -m venv "$tools"
  "$tools/bin/pip" install --quiet --disable-pip-version-check schemathesis==4.32.5
fi
home=$(mktemp -d)
chmod 755 "$home"
free() { python3 -c 'import socket; s = socket.socket(); s.bind(("127.0.0.1", 0)); print(s.getsockname()[1])'; }
port=$(free)
"$gonvel" demo --home "$home/demo" --port "$port" --pg-port "$(free)" >"$home/said" 2>&1 &
demo=$!
finish() {
  kill -INT $demo 2>/dev/null && wait $demo || true
  rm -rf "$home"
}
trap finish EXIT
for _ in $(seq 120); do
  curl -sf -o /dev/null "http://127.0.0.1:$port/api/v1/health" && break
  kill -0 $demo 2>/dev/null || { cat "$home/said" >&2; exit 1; }
  sleep 1
done

# what it keeps of a run goes with it
cd "$home"
# left out: streams that go on until they are closed, since there is no end of theirs to wait for, and manifests, since the fuzzer reads one
# document of YAML and no more
"$tools/bin/schemathesis" run "http://127.0.0.1:$port/api/openapi.json" \
  --checks not_a_server_error,status_code_conformance,content_type_conformance,response_headers_conformance,response_schema_conformance,unsupported_method,allow_header_conformance \
  --exclude-path-regex '(/stream|/tail|/events)$' --exclude-operation-id exportManifests \
  --max-time "$seconds" --workers 2 --continue-on-failure --warnings off --no-color ${seed:+--seed "$seed"}
kill -0 $demo || { echo "the demo did not live through it:" >&2; tail -20 "$home/said" >&2; exit 1; }
