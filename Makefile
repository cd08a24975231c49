# make demo   everything needed, then the application with the demo data
# make test   everything checked, the browser included, on a database server of its own
SHELL := /bin/bash
PYTHON ?= python3
BIN := .venv/bin
# One more than cores: tests of servers and of pages wait much of their time; with two more they wait for each other.
WORKERS ?= $(shell expr $$(nproc) + 1)
# Every process that is started would compile all of it anew.
unexport PYTHONDONTWRITEBYTECODE

.PHONY: demo demo-fresh serve test tests test-slow accuracy coverage lint lint-types lint-quick lint-rest bench load large fuzz kills cluster screenshots lock clean to-run to-test packages-run packages-test

demo: to-run
	@exec $(BIN)/uchiwa serve --demo

demo-fresh: to-run
	@$(BIN)/uchiwa db stop
	@rm -rf .uchiwa
	@exec $(BIN)/uchiwa serve --demo

serve: to-run
	@exec $(BIN)/uchiwa serve

# What is said at once comes first; types and layers are checked beside the tests.
test: to-test
	@$(MAKE) --no-print-directory lint-quick
	@$(BIN)/python -m compileall -q -j 2 uchiwa bench
	@$(MAKE) --no-print-directory -j 2 tests lint-types lint-rest

# Debian's packages and Python's come from different places, so that both are fetched at once.
to-run:
	@$(MAKE) --no-print-directory -j 2 packages-run .venv/run.stamp

to-test:
	@$(MAKE) --no-print-directory -j 2 packages-test .venv/dev.stamp

packages-run:
	@setup/system-packages run

packages-test:
	@setup/system-packages test

tests: .venv/compiled.stamp
	$(BIN)/pytest -n $(WORKERS) --dist worksteal tests

# Browser tests on a bad line: what a test, or a page's script, does too early shows.
test-slow: to-test
	UCHIWA_SLOW_BROWSER=8 $(BIN)/pytest -n 2 --dist worksteal tests/browser --ignore=tests/browser/test_live.py

accuracy: .venv/dev.stamp
	UCHIWA_ACCURACY=full $(BIN)/pytest -n 2 --dist worksteal tests/loop tests/core
	UCHIWA_RACES=50 $(BIN)/pytest -n 2 --dist worksteal tests/web/test_races.py
	$(BIN)/python -m bench.family 78

coverage: to-test
	$(BIN)/pytest -n 2 --dist worksteal --cov --cov-report= tests --ignore=tests/browser
	$(BIN)/coverage report --skip-covered --sort=cover
	@echo "The core, of 100:"
	$(BIN)/coverage report --include="uchiwa/core/*" --format=total --fail-under=90

# Types take as long as all the rest together, so that is done beside them.
lint: .venv/dev.stamp
	@$(MAKE) --no-print-directory -j 2 --output-sync=target lint-types lint-quick lint-rest

lint-types:
	$(BIN)/mypy

lint-quick:
	$(BIN)/ruff check .
	$(BIN)/ruff format --check .

lint-rest: node_modules/.package-lock.json
	$(BIN)/lint-imports
	node_modules/.bin/biome check
	$(BIN)/node --test "tests/js/*.test.js"

bench: to-test
	$(BIN)/python -m bench

load: packages-run .venv/dev.stamp
	$(BIN)/python -m bench.load

large: packages-run .venv/dev.stamp
	$(BIN)/python -m bench.large

fuzz: packages-run .venv/dev.stamp
	$(BIN)/python -m bench.fuzz

kills: packages-run .venv/dev.stamp
	$(BIN)/python -m bench.kills

cluster: to-test
	@setup/cluster-packages
	$(BIN)/python -m tests.cluster

screenshots: to-test
	$(BIN)/python -m bench.screenshots

lock: .venv/run.stamp
	echo uv | $(LOCK) --no-annotate - -o requirements/install.txt
	$(LOCK) pyproject.toml -o requirements/run.txt
	$(LOCK) --extra dev pyproject.toml -o requirements/dev.txt
LOCK := $(BIN)/uv pip compile -q --generate-hashes --python-version 3.11

clean:
	rm -rf .venv .uchiwa .uchiwa-test node_modules

node_modules/.package-lock.json: package-lock.json .venv/dev.stamp
	PATH="$(CURDIR)/$(BIN):$$PATH" npm ci --ignore-scripts --no-audit --no-fund --silent
	@touch $@

.venv/bin/python:
	@$(PYTHON) -c 'import ensurepip, venv' 2>/dev/null || setup/system-packages run
	$(PYTHON) -m venv .venv

# The lists are whole and have hashes, so nothing is left to be resolved. uv takes a tenth of pip's time, but does not
# read what pip is told of mirrors and certificates: where it cannot fetch, pip does.
define install
	@($(PIP) -r requirements/install.txt && $(UV) --require-hashes -r requirements/$(1).txt && \
	  $(UV) --no-build-isolation --editable .) || \
	 (echo "uv could not fetch the packages; pip does, which takes a minute" && \
	  $(PIP) --require-hashes --no-compile -r requirements/$(1).txt && $(PIP) --no-build-isolation --editable .)
endef
PIP := $(BIN)/pip install --quiet --disable-pip-version-check --no-deps
UV := $(BIN)/uv pip install --quiet --python $(BIN)/python --no-deps

# What tests load is compiled by loading it once, before three processes would each compile it.
.venv/compiled.stamp: tests/compiled.py uchiwa/core/evidence/kernels.py uchiwa/core/evidence/surface_kernels.py uchiwa/standin/family/loop.py
	@$(BIN)/python -m tests.compiled
	@touch $@

.venv/run.stamp: requirements/install.txt requirements/run.txt pyproject.toml | .venv/bin/python
	$(call install,run)
	@$(BIN)/python -m compileall -qq -j 0 -x '/tests?/' .venv/lib || true
	@touch $@

.venv/dev.stamp: requirements/install.txt requirements/dev.txt requirements/run.txt pyproject.toml | .venv/bin/python
	$(call install,dev)
	@touch .venv/run.stamp $@
