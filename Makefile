# Nimble Stone. `make demo` and `make test` set up what they need, once (stamps in .stamps/), and say what they do.
PY := .venv/bin/python
BIN := .venv/bin
STAMPS := .stamps
export DEBIAN_FRONTEND := noninteractive
APT_BASE := python3-venv
APT_IMAGE := grub-pc-bin grub-efi-amd64-bin grub-common xorriso mtools busybox-static curl tcpdump udev util-linux cpio kmod
APT_TEST := chromium qemu-system-x86 qemu-utils libvirt-daemon libvirt-daemon-driver-qemu libvirt-daemon-system libvirt-clients seabios ipxe-qemu \
  openssh-server openssh-client grub-pc-bin grub-common busybox-static dropbear-bin linux-image-cloud-amd64 iproute2 iputils-ping iputils-arping cpio kmod e2fsprogs util-linux openssl \
  ovmf sudo swtpm swtpm-tools etcd-server haproxy bind9 bind9-dnsutils dnsmasq-base ipxe $(APT_IMAGE)

.PHONY: help lock demo test check fmt bench fuzz shots texts openapi inspection-image hypervisor-long hypervisor-demo metal-demo clean
help: ## this list
	@grep -E '^[a-z-]+:.*##' $(MAKEFILE_LIST) | sed 's/:.*## /\t/' | expand -t 18

$(STAMPS)/python: requirements.lock pyproject.toml
	@echo "Setting up Python packages in .venv …"
	@mkdir -p $(STAMPS)
	@test -x $(PY) || python3 -m venv .venv || { apt-get update -qq && apt-get install -y -qq $(APT_BASE) && python3 -m venv --clear .venv; }
	@$(BIN)/pip install --quiet --require-hashes -r requirements.lock
	@$(BIN)/pip install --quiet --no-deps --no-build-isolation -e .
	@touch $@

$(STAMPS)/python-dev: $(STAMPS)/python requirements-dev.lock
	@echo "Setting up what development and tests need …"
	@$(BIN)/pip install --quiet --require-hashes -r requirements-dev.lock
	@touch $@

lock: $(STAMPS)/python ## write the lock files from requirements*.in, with the newest versions that fit
	@$(BIN)/pip install --quiet uv
	@for kind in "" -dev; do \
	  { echo "# Exact versions with their digests; \`make lock\` writes it from requirements$$kind.in."; \
	    $(BIN)/uv pip compile requirements$$kind.in --generate-hashes --no-header --no-annotate --allow-unsafe --quiet; } > requirements$$kind.lock.new && \
	  mv requirements$$kind.lock.new requirements$$kind.lock; done

$(STAMPS)/web-packages: web/package-lock.json
	@echo "Setting up the front end's packages …"
	@mkdir -p $(STAMPS)
	@cd web && npm ci --silent --no-audit --no-fund
	@touch $@

$(STAMPS)/web: $(STAMPS)/web-packages web/openapi.json web/index.html web/vite.config.ts $(wildcard docs/*.md) $(shell find web/src web/public -type f ! -name '*.gen.d.ts')
	@echo "Building the page …"
	@cd web && npm run --silent build >/dev/null
	@touch $@

$(STAMPS)/test-tools:
	@echo "Installing test tools from Debian: Chromium, QEMU, libvirt, OpenSSH … (once)"
	@mkdir -p $(STAMPS)
	@apt-get update -qq
	@apt-get install -y -qq --no-install-recommends $(APT_TEST) >/dev/null
	@# a time server to ask: installed, it would take the place of the machine's own
	@cd $(STAMPS) && apt-get download -qq chrony 2>/dev/null && dpkg -x chrony_*.deb chrony && rm chrony_*.deb
	@touch $@

demo: $(STAMPS)/python $(STAMPS)/web ## the application with the demo lab, on http://127.0.0.1:8440
	@$(BIN)/nimble-stone demo

test: check $(STAMPS)/test-tools ## every test: units, engine, contract, browser, real hypervisor
	@cd web && npm run --silent test
	@$(PY) -m pytest tests -m "not long" -n 2 --dist loadscope --no-loadscope-reorder

hypervisor-long: $(STAMPS)/python-dev $(STAMPS)/web $(STAMPS)/test-tools ## on real hosts: Debian's own cloud-init, a quorum that is changed, PostgreSQL with standbys, HTTPS appliances: 26 min, 1.8 GB
	@dpkg -s mmdebstrap postgresql-client >/dev/null 2>&1 || \
	  apt-get install -y -qq --no-install-recommends mmdebstrap postgresql-client >/dev/null
	@$(PY) -m pytest tests/hypervisor -m long

check: $(STAMPS)/python-dev $(STAMPS)/web ## linters, types, layers, generated files up to date
	@$(BIN)/ruff check src tests bench inspection
	@$(BIN)/ruff format --check --quiet src tests bench inspection
	@$(BIN)/mypy
	@$(BIN)/lint-imports >/dev/null || $(BIN)/lint-imports
	@$(BIN)/nimble-stone openapi | diff -q - web/openapi.json >/dev/null || { echo "web/openapi.json is not what the server says: run make openapi"; exit 1; }
	@cd web && npm run --silent check

openapi: $(STAMPS)/python-dev ## write web/openapi.json, docs/schemas and the catalogues from models and code
	@$(BIN)/nimble-stone openapi > web/openapi.json
	@for kind in plan kit answers; do $(BIN)/nimble-stone schema $$kind --words > docs/$$kind-reference.md; done
	@for kind in plan kit estate values answers; do $(BIN)/nimble-stone schema $$kind > docs/schemas/$$kind.schema.json; done
	@$(PY) -m tests.support.catalogue

fmt: $(STAMPS)/python-dev $(STAMPS)/web-packages ## lay everything out, mend what the linters can mend
	@$(BIN)/ruff check --fix src tests bench inspection
	@$(BIN)/ruff format --quiet src tests bench inspection
	@cd web && npm run --silent fmt

bench: $(STAMPS)/python-dev $(STAMPS)/web $(STAMPS)/test-tools ## measurements as ratios; prints, asserts nothing
	@$(PY) bench/run.py

fuzz: $(STAMPS)/python-dev $(STAMPS)/test-tools ## damaged packages and disks for a minute; SECONDS=600 for longer
	@$(PY) -m tests.fuzz $(or $(SECONDS),60)

shots: $(STAMPS)/python-dev $(STAMPS)/web $(STAMPS)/test-tools ## docs/screenshots from the demo data
	@$(PY) -m tests.browser.shots

texts: $(STAMPS)/python-dev ## every text that a person reads, with file and line
	@$(PY) -m tests.support.texts

inspection-image: $(STAMPS)/python ## build/inspection.iso, from which machines are inspected (copy it into the data folder)
	@dpkg -s linux-image-amd64 $(APT_IMAGE) >/dev/null 2>&1 || { apt-get update -qq && apt-get install -y -qq --no-install-recommends linux-image-amd64 $(APT_IMAGE) >/dev/null; }
	@$(PY) -m inspection.build build/inspection.iso

hypervisor-demo: $(STAMPS)/python-dev $(STAMPS)/web $(STAMPS)/test-tools ## the same on two real KVM hosts on this machine, with the page left open
	@$(PY) -m tests.hypervisor.demo

metal-demo: $(STAMPS)/python-dev $(STAMPS)/web $(STAMPS)/test-tools ## the same on three real machines without an operating system (QEMU behind Redfish)
	@$(PY) -m tests.hypervisor.metal_demo

clean: ## forget what was set up
	rm -rf $(STAMPS) .venv web/node_modules src/nimble_stone/server/static build
