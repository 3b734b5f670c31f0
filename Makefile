# Two commands do everything on a fresh machine: `make demo` and `make test`. The others are for working on Gonvel.
SHELL := /bin/bash
.SHELLFLAGS := -eu -o pipefail -c
.DEFAULT_GOAL := help

export GONVEL_HOME ?= .gonvel
export GONVEL_PORT ?= 8470
export GONVEL_PG_PORT ?= 54470

TARGET := $(if $(CARGO_TARGET_DIR),$(CARGO_TARGET_DIR),target)
CONSOLE_SOURCES := $(shell find console/src console/index.html console/*.ts console/*.cjs console/*.json -type f -not -path '*/api/types.ts' 2>/dev/null)
POSTGRESQL := "/usr/lib/postgresql/*/bin/initdb=postgresql-15" "cc=gcc libc6-dev"
CHROMIUM := "/usr/bin/chromium-headless-shell=chromium-headless-shell"

.PHONY: help upgrade demo demo-reset demo-empty test test-rust test-console test-e2e check chaos fuzz fuzz-http bench screenshots console openapi reference \
  packages-demo packages-test binary clean

help:
	@echo "make demo         start Gonvel with its demo data at http://127.0.0.1:$(GONVEL_PORT)"
	@echo "make demo-reset   the same, after forgetting all data of the demo"
	@echo "make demo-empty   the same as demo-reset without ready-made connectors"
	@echo "make test         all tests, with all set-up they need"
	@echo "make check        formatting, lints, types, direction of the crates"
	@echo "make bench        measure; ONLY=name for one, results in docs/benchmarks.md"
	@echo "make screenshots  take docs/screenshots/ anew from the demo data"

packages-demo:
	@scripts/need-packages.sh $(POSTGRESQL)

packages-test:
	@scripts/need-packages.sh $(POSTGRESQL) $(CHROMIUM) curl=curl python3=python3 pgrep=procps
	@scripts/peers.sh $(TARGET)/peers

# --- building ---

console/node_modules/.package-lock.json: console/package-lock.json console/package.json
	cd console && npm ci --no-fund --no-audit
	@touch $@

e2e/node_modules/.package-lock.json: e2e/package-lock.json e2e/package.json
	cd e2e && PLAYWRIGHT_SKIP_BROWSER_DOWNLOAD=1 npm ci --no-fund --no-audit
	@touch $@

console/src/api/types.ts: docs/openapi.json console/node_modules/.package-lock.json
	cd console && npm run --silent types

console/dist/index.html: console/src/api/types.ts $(CONSOLE_SOURCES)
	cd console && npm run --silent build

console: console/dist/index.html

binary: packages-demo
	@scripts/build.sh

# --- the demo ---

demo: binary
	@exec $(TARGET)/release/gonvel demo

demo-reset: binary
	@exec $(TARGET)/release/gonvel demo --reset

demo-empty: binary
	@exec $(TARGET)/release/gonvel demo --reset --empty

# --- tests and checks ---

test: packages-test
	@scripts/test.sh

test-rust: packages-demo
	@scripts/peers.sh $(TARGET)/peers
	@scripts/test.sh rust

test-console:
	@scripts/test.sh console

test-e2e: packages-test
	@scripts/test.sh e2e

check: console e2e/node_modules/.package-lock.json
	cargo fmt --all --check
	node scripts/check-arrows.mjs
	node scripts/check-circles.mjs
	node scripts/check-kinds.mjs
	node scripts/check-tests.mjs
	cargo clippy --workspace --all-targets --quiet -- -D warnings
	cd console && npm run --silent lint && npm run --silent format && npx tsc --noEmit
	cd e2e && npx tsc --noEmit && npm run --silent format

openapi: console
	cargo test --workspace --no-run --quiet
	$(TARGET)/debug/gonvel openapi > docs/openapi.json.new
	mv docs/openapi.json.new docs/openapi.json

reference: console
	cargo test --workspace --no-run --quiet
	$(TARGET)/debug/gonvel reference > docs/commands.md.new
	mv docs/commands.md.new docs/commands.md

# processes killed and frozen, databases crashed, connections cut: make chaos FOR=600 SEED=7 (seconds, and decisions to repeat); before that
# the models of delivery and of the log, a hundred times as many schedules as in the tests, and all that can be done to a table and its connectors
chaos: packages-test console
	GONVEL_SCHEDULES=$(or $(SCHEDULES),10000000) cargo test --release --quiet -p gonvel-core --test all -- model::
	GONVEL_PAIRS=10000 cargo test --release --quiet -p gonvel-core --test all -- json_schema_promises::
	GONVEL_LOG_SECONDS=$(or $(FOR),600) $(if $(SEED),GONVEL_LOG_SEED=$(SEED)) \
	  cargo test --quiet -p gonvel-storage --test all -- log_model:: --nocapture
	cargo test --workspace --no-run --quiet
	GONVEL_SOAK_SECONDS=$(or $(FOR),600) $(if $(SEED),GONVEL_SOAK_SEED=$(SEED)) \
	  cargo test -p gonvel-runtime --test all -- soak:: --nocapture
	GONVEL_CHAOS_SECONDS=$(or $(FOR),600) $(if $(SEED),GONVEL_CHAOS_SEED=$(SEED)) \
	  cargo test --workspace --test all -- chaos::whatever --nocapture

# bodies that are nearly right and settings of any size, sent to each decoder: make fuzz FOR=600 SEED=7 LANES=3 FROM=6 (seconds of each, how many
# side by side, and how many are passed over)
fuzz: packages-test console
	cargo test --release --workspace --no-run --quiet
	GONVEL_FUZZ_SECONDS=$(or $(FOR),600) GONVEL_FUZZ_LANES=$(or $(LANES),1) GONVEL_FUZZ_FROM=$(or $(FROM),0) $(if $(SEED),GONVEL_FUZZ_SEED=$(SEED)) \
	  cargo test --release --workspace --test all -- fuzz:: --nocapture
	$(MAKE) --no-print-directory fuzz-http

# requests made from the document of the interface: make fuzz-http FOR=600 SEED=7
fuzz-http: binary
	@scripts/need-packages.sh curl=curl python3=python3 /usr/lib/python3*/ensurepip=python3-venv
	scripts/fuzz-http.sh $(TARGET)/release/gonvel $(TARGET)/api-fuzzer $(or $(FOR),600) $(SEED)

# two servers and two runners of an earlier version replaced one by one under load: make upgrade FROM=commit, or from before the last migration
upgrade: FORMER = $(abspath $(TARGET))/former
upgrade: FROM ?= $(shell git log -1 --format=%h --diff-filter=A -- crates/storage/migrations)^
upgrade: packages-test console
	git worktree remove --force $(FORMER) 2>/dev/null || true
	git worktree add --detach --force $(FORMER) $(FROM)
	mkdir -p $(FORMER)/console/dist
	cp -r console/dist/. $(FORMER)/console/dist
	cargo build --manifest-path $(FORMER)/Cargo.toml --target-dir $(FORMER)/target --bin gonvel
	cargo test --workspace --no-run --quiet
	GONVEL_BEFORE=$(FORMER)/target/debug/gonvel cargo test --workspace --test all -- upgrade::

bench: binary
	cargo build --release --quiet -p gonvel -p gonvel-bench
	$(TARGET)/release/gonvel-bench $(if $(ONLY),--only $(ONLY))

screenshots: binary packages-test e2e/node_modules/.package-lock.json
	cd e2e && GONVEL_BINARY=$(abspath $(TARGET))/release/gonvel npm run --silent screenshots

clean:
	rm -rf target console/dist console/node_modules e2e/node_modules
