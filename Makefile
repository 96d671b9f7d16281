# Everything a person or a machine does with this repository; each target sees to its own set-up.
PY := .venv/bin/python

.PHONY: help setup demo test lint texts screenshots bench numbers mutants deb deb-test vm-test source lock clean

help:
	@echo "make demo         open Heron's logbook (without a display: run the evening and print it)"
	@echo "make test         run every check and test"
	@echo "make setup        make .venv and install what is missing"
	@echo "make texts        bring the catalogues of other languages up to date and compile them"
	@echo "make screenshots  make the pictures in docs/screenshots, and the film of an evening, anew from the demo data"
	@echo "make bench        run the benchmarks and print their table"
	@echo "make numbers      count how often margins, readings and searches are right, on fresh seeds (an hour)"
	@echo "make mutants      change the code in ways drawn by chance, and count what no test notices (an hour)"
	@echo "make deb          build Debian packages in dist/ (PYTHON=python3.13 for another release's Python)"
	@echo "make deb-test     install them on a bare Debian made for it (as root, debootstrap; DEBIAN=trixie for another release)"
	@echo "make vm-test      a machine that really goes down, under an emulator: kept profiles, nights, a bench (as root; TIMES=40 each)"
	@echo "make source       write the archive that packaging/arch and packaging/rpm build from"
	@echo "make lock         resolve the pinned versions anew"

setup:
	@tools/setup.sh

demo: setup
	@.venv/bin/yondle demo

lint: setup
	.venv/bin/ruff format --check .
	.venv/bin/ruff check .
	.venv/bin/mypy
	.venv/bin/lint-imports --no-cache

# What measures or sets this machine has it to itself; everything else shares two processors, long files first, and keeps its
# logbooks in memory where there is a folder for that: every record is made to reach the disk, and a slow disk would be most of
# the time. Children are started by the hundred: what Python has compiled is kept, whatever the surroundings say.
unexport PYTHONDONTWRITEBYTECODE
test: lint
	OPENBLAS_NUM_THREADS=1 PYTEST_DEBUG_TEMPROOT=$(firstword $(wildcard /dev/shm) /tmp) $(PY) -m pytest -n 2 --dist loadfile --no-loadscope-reorder --ignore=tests/machine
	$(PY) -m pytest tests/machine

texts: setup
	$(PY) -m tools.texts

screenshots: setup
	$(PY) tools/screenshots.py
	$(PY) -m tools.film

bench: setup
	$(PY) -m benchmarks

numbers: setup
	$(PY) -m benchmarks.gains
	$(PY) -m benchmarks.scaling
	$(PY) -m benchmarks.shapes
	$(PY) -m benchmarks.edge
	$(PY) -m benchmarks.beyond
	$(PY) -m benchmarks.chips
	$(PY) -m benchmarks.climbs --rigs 20 --policies goal "all enablers"
	$(PY) -m benchmarks.statements

mutants: setup
	$(PY) tools/mutants.py

vm-test: deb
	tools/vm_root.sh
	.venv/bin/python -m tests.vm kept $(or $(TIMES),40) 2
	.venv/bin/python -m tests.vm nights $(or $(TIMES),40) 2
	.venv/bin/python -m tests.vm bench $(or $(TIMES),40) 2
	.venv/bin/python -m tests.vm odd 9 1

deb-test: deb
	@tools/deb_test.sh

deb: setup
	@tools/deb.sh

source:
	@mkdir -p dist
	git archive --prefix=yondle-0.1.0/ -o dist/yondle-0.1.0.tar.gz HEAD

lock: setup
	$(PY) -m pip install -q uv
	.venv/bin/uv pip compile pyproject.toml --universal --python-version 3.11 --extra dev \
		--generate-hashes --no-emit-index-url --no-annotate --no-header -o requirements.lock

clean:
	rm -rf .venv .mypy_cache .ruff_cache .pytest_cache .hypothesis .mutants
