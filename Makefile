# make demo   everything needed, then the application with the demo data
# make test   everything checked, the browser included, on a database server of its own
SHELL := /bin/bash
PYTHON ?= python3
BIN := .venv/bin
# One more than cores: tests of servers and of pages wait much of their time; with two more they wait for each other.
WORKERS ?= $(shell expr $$(nproc) + 1)
# Every process that is started would compile all of it anew.
unexport PYTHONDONTWRITEBYTECODE

.PHONY: demo demo-fresh serve test tests accuracy coverage lint lint-types lint-quick lint-rest bench load large fuzz kills cluster screenshots lock clean

demo: .venv/run.stamp
	@setup/system-packages run
	@exec $(BIN)/uchiwa serve --demo

demo-fresh: .venv/run.stamp
	@setup/system-packages run
	@$(BIN)/uchiwa db stop
	@rm -rf .uchiwa
	@exec $(BIN)/uchiwa serve --demo

serve: .venv/run.stamp
	@setup/system-packages run
	@exec $(BIN)/uchiwa serve

# What is said at once comes first; types and layers are checked beside the tests.
test: .venv/dev.stamp node_modules/.package-lock.json lint-quick
	@setup/system-packages test
	@$(BIN)/python -m compileall -q -j 2 uchiwa bench
	@$(MAKE) --no-print-directory -j 2 tests lint-types lint-rest

tests:
	$(BIN)/pytest -n $(WORKERS) --dist worksteal tests

accuracy: .venv/dev.stamp
	UCHIWA_ACCURACY=full $(BIN)/pytest -n 2 --dist worksteal tests/loop tests/core
	UCHIWA_RACES=50 $(BIN)/pytest -n 2 --dist worksteal tests/web/test_races.py
	$(BIN)/python -m bench.family 78

coverage: .venv/dev.stamp
	@setup/system-packages test
	$(BIN)/pytest -n 2 --dist worksteal --cov --cov-report= tests --ignore=tests/browser
	$(BIN)/coverage report --skip-covered --sort=cover
	@echo "The core, of 100:"
	$(BIN)/coverage report --include="uchiwa/core/*" --format=total --fail-under=90

# Types take as long as all the rest together, so that is done beside them.
lint: .venv/dev.stamp node_modules/.package-lock.json
	@$(MAKE) --no-print-directory -j 2 --output-sync=target lint-types lint-quick lint-rest

lint-types:
	$(BIN)/mypy

lint-quick:
	$(BIN)/ruff check .
	$(BIN)/ruff format --check .

lint-rest:
	$(BIN)/lint-imports
	node_modules/.bin/biome check
	$(BIN)/node --test "tests/js/*.test.js"

bench: .venv/dev.stamp
	@setup/system-packages test
	$(BIN)/python -m bench

load: .venv/dev.stamp
	@setup/system-packages run
	$(BIN)/python -m bench.load

large: .venv/dev.stamp
	@setup/system-packages run
	$(BIN)/python -m bench.large

fuzz: .venv/dev.stamp
	@setup/system-packages run
	$(BIN)/python -m bench.fuzz

kills: .venv/dev.stamp
	@setup/system-packages run
	$(BIN)/python -m bench.kills

cluster: .venv/dev.stamp
	@setup/system-packages test
	@setup/cluster-packages
	$(BIN)/python -m tests.cluster

screenshots: .venv/dev.stamp
	@setup/system-packages test
	$(BIN)/python -m bench.screenshots

lock:
	$(PYTHON) -m uv pip compile -q --generate-hashes --python-version 3.11 pyproject.toml -o requirements/run.txt
	$(PYTHON) -m uv pip compile -q --generate-hashes --python-version 3.11 --extra dev pyproject.toml -o requirements/dev.txt

clean:
	rm -rf .venv .uchiwa .uchiwa-test node_modules

node_modules/.package-lock.json: package-lock.json .venv/dev.stamp
	PATH="$(CURDIR)/$(BIN):$$PATH" npm ci --ignore-scripts --no-audit --no-fund --silent
	@touch $@

.venv/bin/python:
	@setup/system-packages run
	$(PYTHON) -m venv .venv

# The lists are whole and have hashes, so nothing is left to be resolved; compiling on all cores takes half as long as pip's.
define install
	$(BIN)/pip install --quiet --disable-pip-version-check --require-hashes --no-deps --no-compile -r requirements/$(1).txt
	$(BIN)/pip install --quiet --disable-pip-version-check --no-deps --no-build-isolation --editable .
	@$(BIN)/python -m compileall -qq -j 0 .venv/lib || true
endef

.venv/run.stamp: requirements/run.txt pyproject.toml | .venv/bin/python
	$(call install,run)
	@touch $@

.venv/dev.stamp: requirements/dev.txt requirements/run.txt pyproject.toml | .venv/bin/python
	$(call install,dev)
	@touch .venv/run.stamp $@
