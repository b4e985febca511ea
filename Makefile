# Two commands are enough: “make demo” and “make test”. Both install what they need.
export CGO_ENABLED = 0
# Everywhere: what is built once is not built again for the tests.
export GOFLAGS = -trimpath
VERSION := 0.1.0
COMMIT  := $(shell git rev-parse --short HEAD 2>/dev/null || echo unknown)
LDFLAGS := -s -w -X main.version=$(VERSION) -X main.commit=$(COMMIT)
SUDO    := $(shell [ "$$(id -u)" = 0 ] || echo sudo)
STATICCHECK := honnef.co/go/tools/cmd/staticcheck@v0.8.2

.PHONY: package demo test test-tools race test-hours test-long siege build lint lint-go lint-console lines bench screenshots console types clean

demo: build ## start the service with the demo data
	bin/sentier demo

build: console ## the one static binary, bin/sentier
	@echo "go: building bin/sentier; modules are fetched where they are missing"
	go build -ldflags '$(LDFLAGS)' -o bin/sentier ./cmd/sentier

console: web/dist/index.html

WEB := $(shell find web/src web/public -type f) internal/wording/en.json web/index.html web/vite.config.ts web/package-lock.json

web/dist/index.html: $(WEB) web/node_modules/.package-lock.json
	cd web && npx vite build --logLevel warn
	@touch web/dist/.keep $@

web/node_modules/.package-lock.json: web/package-lock.json
	@echo "npm: installing what the console is built with"
	cd web && npm ci --silent
	@touch $@

types: console ## docs/openapi.json, and from it and the descriptors of records the console's types
	SENTIER_UPDATE=1 go test -count=1 -run 'TestOpenAPI|TestTheConsoleKnowsTheRecords' ./internal/acceptance
	SENTIER_UPDATE=1 go test -count=1 -run TestSchemasInTheDocumentation ./internal/schema
	cd web && npm run types

test: build test-tools lint ## everything, as CI runs it
	GOGC=off GOMEMLIMIT=2GiB go test -count=1 -timeout 25m -parallel 3 ./... # a third of the time went into collecting garbage

# A Sunday at night, a weekday late, an hour that the clocks of the demonstration skip, a leap day, and years from now.
HOURS := 2026-12-06T03:30:00Z 2026-12-09T21:40:00Z 2027-03-28T01:30:00Z 2028-02-29T12:00:00Z 2031-07-15T21:40:00Z
RUN   := .
TIMED := ./internal/schedule ./internal/decision ./internal/survey ./internal/demo ./internal/document ./internal/wording ./internal/translate ./internal/bench ./internal/acceptance

test-hours: build test-tools ## what depends on time, as at five other instants
	@for at in $(HOURS); do echo "the tests as at $$at"; SENTIER_TEST_NOW=$$at go test -count=1 -timeout 9m -run "$(RUN)" $(TIMED) || exit 1; done

siege: build ## ten minutes under attack beside a plain load
	SENTIER_SIEGE=10m go test -count=1 -timeout 30m -v -run '^TestUnderAttack$$' ./internal/acceptance

test-long: ## the random tests at length: 100,000 questions about 2,000 changes, 20,000 acts of people
	SENTIER_SEEDS=25 go test -count=1 -timeout 60m -v -run 'TestThePageRead|WhatThePageSays' ./internal/survey
	SENTIER_PLAY=20000 go test -count=1 -timeout 60m -v -run '^TestPlay$$' ./internal/service

# Another apt at work is waited for: install waits by itself, update does not.
APT := apt-get -o DPkg::Lock::Timeout=600 -qq

test-tools:
	@test -x /usr/sbin/nginx || { echo "apt: installing nginx, behind which the service is tested"; n=0; until $(SUDO) $(APT) update || [ $$((n += 1)) -ge 60 ]; do sleep 10; done; $(SUDO) $(APT) install -y --no-install-recommends nginx-light >/dev/null; }
	@test -d internal/acceptance/peers/node_modules || { echo "npm: installing the programs of others, against which the tests hold ours"; cd internal/acceptance/peers && npm ci --silent; }
	@test -x /usr/sbin/slapd || { echo "apt: installing slapd, a directory from which people are read"; n=0; until $(SUDO) $(APT) update || [ $$((n += 1)) -ge 60 ]; do sleep 10; done; $(SUDO) env DEBIAN_FRONTEND=noninteractive $(APT) install -y --no-install-recommends slapd >/dev/null; }
	@test -x /usr/bin/chromium-headless-shell -o -x /usr/bin/chromium || { echo "apt: installing Chromium, in which the console is tested"; n=0; until $(SUDO) $(APT) update || [ $$((n += 1)) -ge 60 ]; do sleep 10; done; $(SUDO) $(APT) install -y chromium-headless-shell >/dev/null; }

lint: lint-go lint-console

lint-go: build # whose modules it needs
	@test -z "$$(gofmt -l cmd internal web/*.go)" || { gofmt -l cmd internal web/*.go; echo "gofmt: the files above are not formatted"; exit 1; }
	GOGC=400 go vet ./...
	GOGC=400 go run $(STATICCHECK) ./... # half of the time went into collecting garbage

lint-console: web/node_modules/.package-lock.json
	cd web && npx tsc --noEmit && npx eslint . --max-warnings 0

race: ## all rooms but the acceptance under the race detector; needs cgo
	CGO_ENABLED=1 go test -race -count=1 -timeout 20m $$(go list ./... | grep -vE '/(acceptance|bench)$$')

lines: ## lines of code, and the share of tests
	@code=$$(git ls-files '*.go' '*.ts' '*.tsx' '*.css' | grep -vE '(_test\.go|/testdata/|\.gen\.|/dist/|internal/specimen/)' | xargs cat | wc -l); \
	tests=$$(git ls-files '*_test.go' 'internal/specimen/*' | xargs cat | wc -l); \
	echo "$$code lines of code, $$tests lines of tests: $$((100 * tests / (code + tests))) % are tests"

bench: ## speeds, as ratios to floors measured in the same run
	go run ./internal/bench -write docs/performance.md

# The same commit makes the same bytes.
package: export SOURCE_DATE_EPOCH = $(shell git log -1 --format=%ct)
package: build ## a Debian package in bin/, with a unit for systemd and the notices of what it is built of
	packaging/notices.sh bin/NOTICES
	rm -rf bin/man && bin/sentier man bin/man >/dev/null && gzip -9n bin/man/*
	VERSION=$(VERSION) ARCH=$$(go env GOARCH) go run github.com/goreleaser/nfpm/v2/cmd/nfpm@v2.48.0 package -f packaging/nfpm.yaml -p deb -t bin/

screenshots: build test-tools ## the pictures in docs/screenshots
	@command -v Xvfb >/dev/null && command -v xterm >/dev/null && command -v import >/dev/null || { echo "apt: installing a terminal to take pictures of"; $(SUDO) $(APT) install -y --no-install-recommends xvfb xterm imagemagick x11-utils fonts-dejavu-core fonts-jetbrains-mono >/dev/null; }
	SENTIER_SCREENSHOTS=$(CURDIR)/docs/screenshots go test -count=1 -run 'TestScreenshots|TestASourceInTheConsole|TestACalendarAndAListInTheConsole|TestMachinesInTheConsole|TestThePanelOfTheDemonstration' ./internal/acceptance
	internal/acceptance/testdata/terminal.sh

clean:
	rm -rf bin web/dist/* web/node_modules internal/acceptance/peers/node_modules
