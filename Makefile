# Two commands: `make demo` sets up and starts the application with demo data, `make test` sets up and runs every check.
PYTHON ?= python3.11
VENV := .venv
BIN := $(VENV)/bin
# with the user's other data, not below the code: `make clean` never takes what was brought into the demo
DEMO_DATA ?= $(or $(XDG_DATA_HOME),$(HOME)/.local/share)/vast-quarry-demo
PORT ?= 8765

.PHONY: setup installed warm product web demo lint lint-python lint-web unit-web test screenshots clean

setup: warm

installed:
	@./scripts/setup.sh

warm: installed
	@./scripts/warm.sh

product:
	@./scripts/setup.sh product
	@./scripts/warm.sh

web:
	@./scripts/web.sh

demo: product web
	$(BIN)/vast-quarry serve --demo --data "$(DEMO_DATA)" --port $(PORT)

lint: lint-python lint-web

lint-python: installed
	$(BIN)/ruff format --check src tests benchmarks scripts
	$(BIN)/ruff check src tests benchmarks scripts
	$(BIN)/mypy
	$(BIN)/lint-imports --no-logo
	$(BIN)/python scripts/openapi.py --check
	$(BIN)/python scripts/settings.py --check
	$(BIN)/python scripts/words.py --check

lint-web: web
	cd web && npx --no-install openapi-typescript ../docs/openapi.json -o node_modules/.schema.d.ts >/dev/null && diff -q node_modules/.schema.d.ts src/api/schema.d.ts
	cd web && npx --no-install prettier --check src tests
	cd web && npx --no-install eslint src tests
	cd web && npx --no-install vue-tsc --noEmit

unit-web: web
	cd web && npx --no-install vitest run

# two tests at a time on two cores: more threads in each only get into each other's way (half the time with one, measured)
ONE_THREAD := NUMBA_NUM_THREADS=1 OMP_NUM_THREADS=1 OPENBLAS_NUM_THREADS=1 MKL_NUM_THREADS=1

# the kernels are compiled beside the checks, which do not need them; then the tests, two at a time
test: installed
	@./scripts/real-photos.sh
	@$(MAKE) --no-print-directory -j 2 warm lint unit-web
	$(ONE_THREAD) PYTHONDONTWRITEBYTECODE= $(BIN)/pytest -n 2 --dist loadgroup

screenshots: setup web
	$(BIN)/python scripts/screenshots.py

clean:
	rm -rf $(VENV) build web/dist web/node_modules .pytest_cache .mypy_cache .ruff_cache
