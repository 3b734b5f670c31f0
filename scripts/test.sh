#!/usr/bin/env bash
# All tests, with what can be done beside each other done so, and how long each part took.
#   test.sh [rust] [console] [e2e]    only these
set -euo pipefail
cd "$(dirname "$0")/.."
# from here on: the walks begin in another folder
target=$(realpath --canonicalize-missing "${CARGO_TARGET_DIR:-target}")
parts=" ${*:-rust console e2e} "
wanted() { [[ $parts == *" $1 "* ]]; }
logs=$(mktemp -d)
declare -A beside=()
rooms=
finish() {
  # with all that they started: browsers and demos do not end by themselves
  for group in "${beside[@]}"; do
    kill -- -"$group" && wait "$group" || true
  done 2>/dev/null
  rm -rf "$logs" ${rooms:+"$rooms"}
}
trap finish EXIT

failed=()
times=()
timed() { # name, command...
  local name=$1 began=$SECONDS
  shift
  echo "== $name"
  if "$@"; then times+=("$(printf '%4d s  %s' $((SECONDS - began)) "$name")"); else
    times+=("$(printf '%4d s  %s: FAILED' $((SECONDS - began)) "$name")")
    failed+=("$name")
  fi
}

# the same beside what comes next; what it said is shown when it is waited for
aside() { # name, command...
  local name=$1
  shift
  # a group of its own, which ends as one
  set -m
  (
    began=$SECONDS
    "$@" >"$logs/$name" 2>&1 && outcome=0 || outcome=$?
    echo $((SECONDS - began)) >"$logs/$name-seconds"
    exit $outcome
  ) &
  set +m
  beside[$name]=$!
}
waited() { # name, what it is
  local outcome=0
  wait "${beside[$1]}" || outcome=$?
  unset "beside[$1]"
  echo "== $2"
  cat "$logs/$1"
  times+=("$(printf '%4d s  %s' "$(cat "$logs/$1-seconds")" "$2")")
  [ $outcome -eq 0 ] || failed+=("$1")
}

console_part() {
  make --no-print-directory console || return
  if wanted e2e; then make --no-print-directory e2e/node_modules/.package-lock.json || return; fi
  if wanted console; then (cd console && npx tsc --noEmit && npm test --silent) || return; fi
}

# the program that is not optimised reads the console's files where they are, but wants their folder
mkdir -p console/dist
# the console's packages, bundle, types and tests use little of the processors that the Rust code waits for
if wanted console || wanted e2e; then aside console console_part; fi
if wanted rust || wanted e2e; then
  # one choice of packages for all: another one would compile half of them again
  timed "Rust: compiled" cargo test --workspace --no-run --quiet
fi
if [ -n "${beside[console]:-}" ]; then waited console "console: packages, bundle, types, tests (beside the compiling)"; fi
# a cluster for each test and a profile for each browser are thousands of files that no disk need see, where memory has room for them
room() { df --output=avail --block-size=1M /dev/shm | tail -1; }
memory() { awk '/^MemAvailable/ { print int($2 / 1024) }' /proc/meminfo; }
if [ -w /dev/shm ] && [ "$(room)" -ge 4096 ] && [ "$(memory)" -ge 8192 ]; then
  rooms=$(mktemp -d /dev/shm/gonvel-test-XXXXXX)
  # the clusters run as another user where the caller is root
  chmod 755 "$rooms"
  export TMPDIR=$rooms
fi
# half of a test's time is waiting for a database: twice as many at a time as there are processors
export RUST_TEST_THREADS=${RUST_TEST_THREADS:-$(($(nproc) * 2))}
built() { [[ " ${failed[*]:-} " != *"Rust: compiled"* && " ${failed[*]:-} " != *" console "* ]]; }
walks() (cd e2e && GONVEL_BINARY=$target/debug/gonvel npm test --silent)
# the walks and the Rust tests wait at other times: side by side they take as long as the processors need, and not each its own waiting besides
if wanted e2e && built; then
  aside walks walks
elif wanted e2e; then
  failed+=("walks in the browser: not begun, since what they walk in could not be built")
fi
if wanted rust; then timed "Rust: tests" cargo test --workspace --quiet --no-fail-fast; fi
if [ -n "${beside[walks]:-}" ]; then waited walks "walks in the browser (beside the Rust tests)"; fi

echo
printf '%s\n' "${times[@]}"
echo "$(printf '%4d s' $SECONDS)  in all"
if [ ${#failed[@]} -gt 0 ]; then
  echo "Failed: ${failed[*]}" >&2
  exit 1
fi
