# Grey Heron. `make demo` starts it, `make test` checks everything, `make quick` what was changed.

PYTHON ?= python3
BIN := .venv/bin
BUILT := src/greyheron/workbench/index.html
# Lines and branches that the unit and API tests cover, in percent, as slipcover counts them; it only goes up.
FLOOR := 92
LOCKED := pip compile --quiet --universal --generate-hashes --no-header --no-annotate --no-emit-index-url
UI_SOURCES := $(shell find ui/src ui/public -type f 2>/dev/null) ui/index.html ui/vite.config.ts

.PHONY: demo dev test quick wheel check fuzz soak shots bench contracts lock format clean

demo: .venv/stamp $(BUILT)
	@$(BIN)/grey-heron serve --demo

# The server starts anew when Python changes, the page when the workbench does.
dev: .venv/stamp ui/node_modules/stamp
	@$(BIN)/watchfiles --filter python "$(BIN)/grey-heron serve --demo --no-open" src/greyheron & server=$$!; \
	trap "kill $$server" EXIT; cd ui && npx vite

test: check $(BUILT) .venv/chromium .venv/kernel wheel
	cd ui && npm run --silent test
	$(BIN)/slipcover --json --out .venv/coverage.json -m pytest -n 2 tests/unit tests/api
	$(BIN)/python scripts/covered.py .venv/coverage.json $(FLOOR)
	$(BIN)/pytest tests/kernel -rs
	$(BIN)/pytest -n 2 --dist loadgroup tests/browser

# What a change needs first: types, style, and the tests of what was changed.
quick: .venv/stamp ui/node_modules/stamp
	$(BIN)/python scripts/quick.py

# The wheel, with the workbench in it, tried in an empty environment.
wheel: .venv/stamp $(BUILT)
	$(BIN)/python scripts/try_wheel.py

check: .venv/stamp ui/node_modules/stamp
	$(BIN)/ruff format --check .
	$(BIN)/ruff check .
	$(BIN)/mypy
	$(BIN)/lint-imports
	$(BIN)/python scripts/contracts.py --check
	cd ui && npx --no-install openapi-typescript ../docs/openapi.json -o src/api/generated.ts --check
	cd ui && npm run --silent check

contracts: .venv/stamp ui/node_modules/stamp
	$(BIN)/python scripts/contracts.py
	cd ui && npm run --silent types

# What is installed, with hashes: for developers, and for those who install the wheel.
lock: .venv/stamp
	$(BIN)/pip install --quiet --disable-pip-version-check uv
	$(BIN)/uv $(LOCKED) --extra dev --output-file requirements.lock pyproject.toml
	$(BIN)/uv $(LOCKED) --output-file users.lock pyproject.toml

format: .venv/stamp ui/node_modules/stamp
	$(BIN)/ruff format .
	$(BIN)/ruff check --fix .
	cd ui && npx biome check --write .

shots: .venv/stamp $(BUILT) .venv/chromium
	PYTHONPATH=. $(BIN)/python scripts/shots.py

# Random requests to every route, and a day's edits in fast motion: long runs of what the tests do shortly.
fuzz: .venv/stamp
	$(BIN)/pip install --quiet --disable-pip-version-check -r scripts/requirements.lock
	PYTHONPATH=. $(BIN)/python scripts/fuzz.py 10000
	PYTHONPATH=. $(BIN)/python scripts/fuzz_schema.py 50000

soak: .venv/stamp
	$(BIN)/python scripts/soak.py --edits 2000 --limit 40
	$(BIN)/python scripts/soak.py --edits 200000 --ask-every 500 --check-every 5000 --limit 40
	PYTHONPATH=. $(BIN)/python scripts/killing.py 50
	PYTHONPATH=. $(BIN)/python scripts/keeping.py 300

bench: .venv/stamp $(BUILT) .venv/chromium
	$(BIN)/pip install --quiet --disable-pip-version-check -r bench/requirements.lock
	PYTHONPATH=. $(BIN)/python bench/run.py
	PYTHONPATH=. $(BIN)/python bench/shapes.py
	PYTHONPATH=. $(BIN)/python bench/goals.py
	PYTHONPATH=. $(BIN)/python bench/tidying.py
	PYTHONPATH=. $(BIN)/python bench/differing.py
	PYTHONPATH=. $(BIN)/python bench/load.py
	PYTHONPATH=. $(BIN)/python bench/crowd.py
	PYTHONPATH=. $(BIN)/python bench/screen.py

.venv/stamp: requirements.lock pyproject.toml
	test -x $(BIN)/python || $(PYTHON) -m venv .venv
	$(BIN)/pip install --quiet --disable-pip-version-check --require-hashes -r requirements.lock
	$(BIN)/pip install --quiet --disable-pip-version-check --no-deps -e .
	@touch $@

ui/node_modules/stamp: ui/package-lock.json
	cd ui && npm install --no-save --silent  # not `ci`: some platforms’ optional packages are not in every registry
	@touch $@

$(BUILT): ui/node_modules/stamp $(UI_SOURCES)
	cd ui && npm run --silent build -- --logLevel warn
	@touch $@

.venv/chromium: .venv/stamp
	command -v chromium-headless-shell >/dev/null || (apt-get update && apt-get install -y --no-install-recommends chromium-headless-shell)
	@touch $@

# What rehearsals need of the system, and what judges YANG and captures; where it cannot be had, their tests are
# skipped.
.venv/kernel: .venv/stamp
	(for it in conntrack ip nft tshark yanglint /usr/lib/frr/zebra; do command -v $$it || exit 1; done) >/dev/null || \
	(apt-get update && apt-get install -y --no-install-recommends \
	conntrack frr iproute2 libyang2-tools nftables tshark util-linux)
	@touch $@

clean:
	rm -rf .venv dist ui/node_modules src/greyheron/workbench grey-heron-data
