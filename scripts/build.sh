#!/usr/bin/env bash
# Builds the optimised program with the console inside, and says what it is at: the console is built beside the Rust code, and
# goes into the program last.
set -euo pipefail
cd "$(dirname "$0")/.."
target=${CARGO_TARGET_DIR:-target}
started=$SECONDS

took() { # seconds
  if [ "$1" -ge 60 ]; then echo "$(($1 / 60)) min $(($1 % 60)) s"; else echo "$1 s"; fi
}

console_log=$(mktemp)
console=
finish() {
  [ -z "$console" ] || kill "$console" 2>/dev/null || true
  rm -f "$console_log"
}
trap finish EXIT

if make --no-print-directory --question console 2>/dev/null; then
  echo "[1 of 3] The console is built."
else
  echo "[1 of 3] The console is being built beside the next step: packages of npm, types, bundle (about a minute)."
  (
    make --no-print-directory console >"$console_log" 2>&1 || exit 1
    echo "[1 of 3] The console is built after $(took $((SECONDS - started)))."
  ) &
  console=$!
fi

if [ -x "$target/release/gonvel" ]; then
  echo "[2 of 3] Gonvel's libraries: what changed since the last build."
else
  echo "[2 of 3] Gonvel's libraries, some 280 packages: about 9 minutes with two processors. What is built stays in $target,"
  echo "         and the next start takes seconds."
fi
cargo build --release -p gonvel --lib

if [ -n "$console" ]; then
  if ! wait "$console"; then
    console=
    cat "$console_log" >&2
    echo "The console could not be built: its messages are above." >&2
    exit 1
  fi
  console=
fi
echo "[3 of 3] The program: put together."
cargo build --release -p gonvel
[ $((SECONDS - started)) -lt 10 ] || echo "Built in $(took $((SECONDS - started))). The next start takes seconds."
