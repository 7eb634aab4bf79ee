# One command sets up and starts the demo, one sets up and tests. PORT=… chooses another port for the demo.
PORT ?= 8420
PYTHON_HERE := .venv/bin/python

.PHONY: demo test lint unit bench bench-changes bench-drift bench-records bench-explanations bench-bulk bench-cluster bench-console console screenshots setup clean

demo:
	@scripts/setup.sh venv postgres console
	@exec $(PYTHON_HERE) -m demo --port $(PORT)

test: setup
	@scripts/test.sh

setup:
	@scripts/setup.sh venv postgres chromium balancers console generator torch

lint:
	@$(PYTHON_HERE) -m ruff check .
	@$(PYTHON_HERE) -m mypy
	@cd console && npm run --silent check >/dev/null && npm run --silent lint && npm run --silent test >/dev/null

unit:
	@$(PYTHON_HERE) -m tests

bench:
	@scripts/setup.sh venv postgres console wrk
	@$(PYTHON_HERE) -m bench

# Longer than make bench: points and rollbacks under load on one node and three, and 10,000 simulated rollouts.
bench-changes:
	@scripts/setup.sh venv postgres console wrk
	@$(PYTHON_HERE) -m bench.changes
	@$(PYTHON_HERE) -m bench.rollouts

# How good the verdicts on drift are; what recording costs, and what records take on disk.
bench-drift:
	@scripts/setup.sh venv
	@$(PYTHON_HERE) -m bench.drift

bench-records:
	@scripts/setup.sh venv postgres console wrk
	@$(PYTHON_HERE) -m bench.records
	@$(PYTHON_HERE) -m bench.growth

# What an explanation takes, and what explainers cost live calls.
bench-explanations:
	@scripts/setup.sh venv postgres console wrk
	@$(PYTHON_HERE) -m bench.explanations

# Bulk runs against the library in-process: rows a second, memory, what live calls notice, table to table.
bench-bulk:
	@scripts/setup.sh venv postgres console wrk
	@$(PYTHON_HERE) -m bench.bulk

# Bulk runs over a Dask cluster: two workers against one.
bench-cluster:
	@scripts/setup.sh venv postgres
	@$(PYTHON_HERE) -m bench.cluster

# What the console costs: views, scripts, an open page.
bench-console:
	@scripts/setup.sh venv postgres chromium console
	@$(PYTHON_HERE) -m bench.console

console:
	@scripts/setup.sh console

screenshots:
	@scripts/setup.sh venv postgres chromium console
	@$(PYTHON_HERE) -m scripts.screenshots

clean:
	rm -rf .lamppost src/lamppost/console/dist console/src/api/schema.d.ts

# The readers of what comes in, fed with damaged input: two seconds each in the tests, so many here.
SECONDS ?= 120
.PHONY: fuzz
fuzz:
	@scripts/setup.sh venv
	@LAMPPOST_FUZZ_SECONDS=$(SECONDS) $(PYTHON_HERE) -W error -m unittest -v tests.security.test_fuzzed_readers tests.package.test_hostile_archives

# The lock anew, with the versions that it has where they still fit. Needs uv.
.PHONY: lock
lock:
	uv pip compile -q --universal --generate-hashes --no-header --python-version 3.11 --extra dev -o requirements.lock pyproject.toml

.PHONY: proto
proto:
	@scripts/setup.sh venv
	@$(PYTHON_HERE) -m grpc_tools.protoc -I src --python_out=src --pyi_out=src src/lamppost/service/grpc/predict.proto

.PHONY: compiling-table
compiling-table:
	@scripts/setup.sh venv
	@$(PYTHON_HERE) -m scripts.compiling_table
