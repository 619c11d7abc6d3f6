# Every target sets itself up: make demo and make test need nothing but Python 3.11 (and, for the lab, root on Linux).
# Development never touches the machine's own network: the product refuses it while this is set.
export SCOPION_LIVE := namespaces

PYTHON ?= python3
SECONDS_OF_FUZZ ?= 60
SHARE ?= 1
VENV := .venv
BIN := $(VENV)/bin

.PHONY: demo test air lint bench fuzz attack docs shots onefile clean

demo: $(VENV)/ready            ## tell the story of the made-up site
	@$(BIN)/scopion demo

test: $(VENV)/ready lab-packages air-packages   ## everything that CI asks for, lint among it
	$(BIN)/python -m tests

air: $(VENV)/ready lab-packages air-packages   ## lists on real 802.11 stacks, in an emulated machine: three minutes
	$(BIN)/python -m tests.air

lint: $(VENV)/ready            ## style, types, and which room may import which
	$(BIN)/ruff check .
	$(BIN)/ruff format --check .
	$(BIN)/mypy
	$(BIN)/lint-imports --no-cache

bench: $(VENV)/ready lab-packages       ## the figures that the README quotes
	$(BIN)/python -m benchmarks

fuzz: $(VENV)/ready            ## damaged and made-up bytes for every decoder and reader, for a minute
	$(BIN)/python -m tests.attack.inputs $(SECONDS_OF_FUZZ)

attack: $(VENV)/ready          ## everything that attacks can do to it, at length; SHARE=0.1 for a tenth
	$(BIN)/python -m tests.attack $(SHARE)

docs: $(VENV)/ready            ## the references, manual pages, and the answers to the examples
	$(BIN)/python -m tools.make_docs

shots: $(VENV)/ready           ## the pictures in docs/screenshots, from the made-up site
	@sh tools/packages.sh Xvfb:xvfb xterm:xterm import:imagemagick fc-list:fontconfig :fonts-dejavu-core \
	  chromium:chromium
	$(BIN)/python tools/shots.py

onefile: $(VENV)/ready         ## one file that runs with nothing but a Python: dist/scopion.pyz
	$(BIN)/python -m tools.onefile

.PHONY: lab-packages air-packages
air-packages:
	@sh tools/packages.sh qemu-system-x86_64:qemu-system-x86 iw:iw wpa_supplicant:wpasupplicant modprobe:kmod
	@sh tools/air.sh build/air

lab-packages:
	@sh tools/packages.sh ip:iproute2 nft:nftables setpriv:util-linux unshare:util-linux sysctl:procps \
	  dnsmasq:dnsmasq-base udhcpc:udhcpc avahi-daemon:avahi-daemon nmbd:samba snmpd:snmpd \
	  systemd-analyze:systemd dbus-daemon:dbus-daemon hostapd:hostapd sshd:openssh-server chromium:chromium \
	  zsh:zsh fish:fish radclient:freeradius-utils mosquitto:mosquitto lldpd:lldpd \
	  :fonts-dejavu-core :python3-venv

$(VENV)/ready: pyproject.toml
	@sh tools/packages.sh $(PYTHON):python3 :python3-venv
	$(PYTHON) -m venv $(VENV)
	$(BIN)/python -m pip install --quiet --disable-pip-version-check --editable '.[dev]'
	@# Whoever runs the program from this environment by hand is kept off the machine's own network, too.
	@$(BIN)/python -c 'import site; print(site.getsitepackages()[0])' | { read -r folder; \
	  echo 'import os; os.environ.setdefault("SCOPION_LIVE", "namespaces")' > "$$folder/scopion-development-lock.pth"; }
	@touch $@

clean:                         ## what was made here, the environment included
	rm -rf $(VENV) build dist .mypy_cache .ruff_cache .hypothesis
