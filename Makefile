# Moss Ledger. 'make test' is the one test command; 'make demo' the way in.
SHELL := /bin/bash
GO ?= go
LINT = github.com/golangci/golangci-lint/v2/cmd/golangci-lint@v2.15.0
PACKAGES = samba samba-ad-dc samba-ad-provision winbind krb5-user ldb-tools ldap-utils slapd attr acl openssl mmdebstrap busybox-static systemd-container iproute2 openssh-client chromium wsl curl uuid-runtime libxml2-utils python3-winrm postgresql pgbouncer mariadb-server-core mariadb-client-core redis-server rsyslog rsyslog-gnutls python3-yaml python3-jsonschema strace
export DEBIAN_FRONTEND = noninteractive

.PHONY: build console lab check test race bench demo tour api screenshots clean

build: console
	$(GO) build -trimpath -ldflags '-s -w' -o bin/moss ./cmd/moss

# The console is built into the service's package and embedded there.
console: console/node_modules/.stamp
	cd console && npm run --silent build

console/node_modules/.stamp: console/package-lock.json
	cd console && npm ci --no-audit --no-fund --loglevel=error
	touch $@

# What the tests need beyond Go and Node: Debian packages, as root only.
lab:
	@if [ "$$(id -u)" != 0 ]; then echo "not root: real directories and hosts, and the console in a browser, are left out of the tests unless their packages are there already"; \
	else missing=""; for p in $(PACKAGES); do dpkg -s $$p >/dev/null 2>&1 || missing="$$missing $$p"; done; \
	if [ -n "$$missing" ]; then apt-get -o DPkg::Lock::Timeout=400 update -qq && apt-get -o DPkg::Lock::Timeout=400 install -y -qq --no-install-recommends $$missing >/dev/null; fi; fi

# Formatting, what linters find (.golangci.yml), the console's types, rules and own tests.
check: console
	@unformatted=$$(gofmt -l cmd internal); if [ -n "$$unformatted" ]; then echo "not formatted: $$unformatted"; exit 1; fi
	$(GO) run $(LINT) run ./...
	cd console && npm run --silent types && npm run --silent lint && npm run --silent test

# Never from the cache: it does not see what tests read through other programs.
test: lab build check
	@left=$$(mktemp); before=$$(git status --porcelain 2>/dev/null); echo "$(GO) test -count=1 -timeout 50m ./..."; MOSS_LEFT_OUT=$$left $(GO) test -count=1 -timeout 50m ./...; end=$$?; \
	$(GO) test -short -run '^$$' -bench . -benchtime 1x -timeout 10m ./internal/bench/ ./internal/core/rotation/ ./internal/core/held/ > $$left.bench 2>&1 || { cat $$left.bench; end=1; }; rm -f $$left.bench; \
	if [ -s $$left ]; then echo "LEFT OUT:"; sort -u $$left; else echo "No test was left out."; fi; rm -f $$left; \
	if [ "$$before" != "$$(git status --porcelain 2>/dev/null)" ]; then echo "The tests wrote into the repository:"; git status --porcelain; exit 1; fi; exit $$end

# Under the race detector: all but real systems, the browser and the benchmarks. Tests that try everything take a sample (-short):
# what is searched for here is in the threads, not in the cases.
race:
	@left=$$(mktemp); MOSS_LEFT_OUT=$$left $(GO) test -race -short -count=1 -timeout 45m $$($(GO) list ./... | grep -v /internal/e2e | grep -v /internal/lab | grep -v /internal/bench); end=$$?; \
	if [ -s $$left ]; then echo "LEFT OUT:"; sort -u $$left; fi; rm -f $$left; exit $$end

# For figures, on a quiet machine. The tests run the same benchmarks once and small, so that none rots.
bench: lab
	$(GO) test -run '^$$' -bench . -benchtime 1x -timeout 90m ./internal/bench/ ./internal/core/rotation/

demo: build
	bin/moss demo

tour: build
	bin/moss demo --tour

# The description of the API, and the console's types made from it.
api:
	$(GO) run ./cmd/moss openapi | python3 -m json.tool --sort-keys > docs/openapi.json
	cd console && npm run --silent api

screenshots: lab build
	MOSS_SCREENSHOTS=$(CURDIR)/docs/screenshots $(GO) test -count=1 -timeout 10m -run TestConsole ./internal/e2e/
	cd docs/screenshots && for f in *.png; do grep -q "screenshots/$$f" ../../README.md || rm "$$f"; done

clean:
	rm -rf bin console/dist internal/service/web/dist
