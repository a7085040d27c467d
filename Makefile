# make demo   the invented demo, from nothing      make test   everything that CI checks
# make dev    server and front end, reloading      make bench  what was measured
# make shots  the pictures in docs/screenshots     make serve  your own library
# make siege  attacks on a running library

PY := .venv/bin/python
PORT ?= 8418
DEMO ?= .demo
NPM := npm --prefix frontend --no-audit --no-fund
FRONT := $(shell find frontend/src frontend/public -type f) frontend/index.html frontend/vite.config.ts frontend/tsconfig.json

.PHONY: demo serve test lint lint-python lint-front dev shots bench siege hunt mutants house types lock clean chromium
.DEFAULT_GOAL := demo

.stamps/python: requirements.lock pyproject.toml
	@command -v python3 >/dev/null || { echo "Python 3.11 or newer is needed: apt-get install python3 python3-venv"; exit 1; }
	@python3 -c 'import sys; sys.exit(sys.version_info < (3, 11))' || { echo "Python 3.11 or newer is needed."; exit 1; }
	python3 -m venv .venv
	@# The lock is whole. Asked to resolve it again, pip takes a newer pydantic for apiflask's pydantic[email] and stops.
	.venv/bin/pip install --quiet --no-deps --require-hashes -r requirements.lock
	.venv/bin/pip install --quiet --no-build-isolation --no-deps -e .
	.venv/bin/pip check
	@mkdir -p .stamps && touch $@

.stamps/node: frontend/package-lock.json
	@command -v npm >/dev/null || { echo "Node 20 with npm is needed."; exit 1; }
	@# Not 'npm ci': it refuses a lock that lacks optional packages of systems which the registry at hand does not serve.
	$(NPM) install --no-save --loglevel=error
	@mkdir -p .stamps && touch $@

src/grayshelf/web/static/index.html: .stamps/node $(FRONT)
	$(NPM) run build --silent

chromium:
	@test -x /usr/bin/chromium || { \
	  if [ "$$(id -u)" = 0 ] && command -v apt-get >/dev/null; then apt-get update -qq && apt-get install -y -qq chromium >/dev/null; \
	  else echo "The browser tests need Chromium: apt-get install chromium"; exit 1; fi; }

demo: .stamps/python src/grayshelf/web/static/index.html
	.venv/bin/grayshelf demo --folder $(DEMO) --port $(PORT)

serve: .stamps/python src/grayshelf/web/static/index.html
	.venv/bin/grayshelf serve

dev: .stamps/python .stamps/node
	@trap 'kill 0' EXIT INT TERM; .venv/bin/grayshelf demo --folder $(DEMO) --port $(PORT) & \
	GRAYSHELF=http://127.0.0.1:$(PORT) $(NPM) run dev

types: .stamps/python .stamps/node
	.venv/bin/grayshelf openapi docs/openapi.json
	$(NPM) run types --silent

lint: lint-python lint-front

lint-python: .stamps/python
	.venv/bin/ruff check src tests bench siege tools
	.venv/bin/ruff format --check src tests bench siege tools
	.venv/bin/mypy
	.venv/bin/lint-imports
	$(PY) tools/house.py --check

lint-front: .stamps/node
	$(NPM) run lint --silent
	$(NPM) run test --silent

.stamps/loops: .stamps/python tools/compile_loops.py $(shell grep -l "import njit" -r src/grayshelf/core --include=*.py)
	$(PY) tools/compile_loops.py
	@touch $@

test: .stamps/python .stamps/loops src/grayshelf/web/static/index.html chromium
	@# Beside one another: each of the two works on one core for most of its time.
	@$(MAKE) --no-print-directory -j2 --output-sync=target lint-python lint-front
	@# Many tests start the application anew: it is not to be compiled each time, even where the shell asks for that.
	@$(PY) -m compileall -q -j 2 src tests
	@# Four processes on two cores, since many tests wait; those of one file share a demo, so they stay together.
	PYTHONDONTWRITEBYTECODE= $(PY) -m pytest -n 4 --dist loadfile --no-loadscope-reorder

# How long, how tangled and how well told the code is.
house: .stamps/python
	$(PY) tools/house.py

# Property tests on examples that nobody has tried yet. What it finds becomes an @example of the test.
hunt: .stamps/python
	for round in $$(seq $(or $(ROUNDS),20)); do \
	  $(PY) -m pytest -q -x -m hypothesis --hypothesis-profile=hunt tests/core || exit 1; done

shots: .stamps/python src/grayshelf/web/static/index.html chromium
	$(PY) tools/take_shots.py docs/screenshots

bench: .stamps/python src/grayshelf/web/static/index.html chromium
	$(PY) -m bench

# Attacks on running libraries, on this machine alone: under half an hour. Name PARTS="kills disks" for some of them.
siege: .stamps/python
	@test -x .venv-siege/bin/st || { python3 -m venv .venv-siege && .venv-siege/bin/pip install --quiet -r siege/requirements.txt; }
	OMP_NUM_THREADS=1 $(PY) -m siege $(PARTS)

# Single changes to the rules of the job, and whether a test of core notices. All 17,000 take a day: PART="grayshelf.core.frames.*"
# for those of a package, or names of some drawn by lot.
mutants: .stamps/python
	.venv/bin/pip install --quiet mutmut==3.8.1
	EXAMPLES=mutants .venv/bin/mutmut run $(PART)
	.venv/bin/mutmut results | sed -n 's/.*: //p' | sort | uniq -c

# After a change of the dependencies in pyproject.toml.
lock:
	.venv/bin/pip install --quiet uv
	.venv/bin/uv pip compile pyproject.toml --extra dev --generate-hashes --python-version 3.11 -q -o requirements.lock

clean:
	rm -rf mutants .venv .venv-siege .stamps frontend/node_modules src/grayshelf/web/static .demo
