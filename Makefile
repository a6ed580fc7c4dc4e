# Wide Lark. `make` alone says what there is.
SHELL := /bin/bash
.SHELLFLAGS := -eu -o pipefail -c
.DELETE_ON_ERROR:
.DEFAULT_GOAL := help
MAKEFLAGS += --no-print-directory

# gin can do without a codec that takes longer to compile than everything else together.
export GOFLAGS += -tags=nomsgpack

VERSION := $(shell git describe --always --dirty 2>/dev/null || echo unknown)
GOSRC := $(shell find . -name '*.go' -not -path './console/*' -not -path './.var/*' -not -path './tools/*') \
	$(wildcard internal/postgres/migrations/*.sql demo/files/*)
WEBSRC := $(shell find console -path console/node_modules -prune -o -type f -not -name '*.tsbuildinfo' -print)
DATA ?=
LISTEN ?= 127.0.0.1:8470

.PHONY: help demo test test-console test-go build check deps dev bench race lint fmt generate verify screenshots fuzz clean

help: ## what can be made
	@grep -hE '^[a-z-]+:.*##' $(MAKEFILE_LIST) | sed -E 's/^([a-z-]+):.*## (.*)/  make \1\t\2/' | column -t -s $$'\t'

demo: .var/postgresql.stamp build ## run everything with the demo data of Quillmere General; Ctrl-C ends it
	@exec bin/widelarkd demo --listen $(LISTEN) $(if $(DATA),--data $(DATA))

test: deps build verify ## pass every test, in a real PostgreSQL and a real browser
	go vet ./...
	@$(MAKE) -j2 --output-sync=target test-console test-go

test-console:
	cd console && npm run -s test

# What takes longest begins first, so that nothing long is left to run alone. Many tests wait for a process to start or end: another runs meanwhile.
test-go:
	go run ./test/suite go test -vet=off -count=1 -parallel $$(($$(nproc) + 1)) -timeout 15m ./test/e2e/... ./internal/... ./...

build: bin/widelark ## build the console and the two programs

check: fmt lint verify test ## all that must hold before a commit

deps: .var/postgresql.stamp .var/chromium.stamp .var/curl.stamp .var/nft.stamp .var/slapd.stamp .var/whole-chromium.stamp .var/dig.stamp .var/icap.stamp .var/named.stamp .var/unbound.stamp ## install what is missing on a Debian machine: PostgreSQL, Chromium, curl, clients of DNS and ICAP, resolvers, nftables, slapd

# A cluster that Debian's package would make by itself is not wanted: Wide Lark brings its own. One that is there
# already is left alone.
.var/postgresql.stamp:
	@compgen -G '/usr/lib/postgresql/*/bin/postgres' >/dev/null || { \
	  $(AS_ROOT); if [ ! -e /etc/postgresql-common/createcluster.conf ]; then $$as mkdir -p /etc/postgresql-common; \
	    echo 'create_main_cluster = false' | $$as tee /etc/postgresql-common/createcluster.conf >/dev/null; fi; \
	  $(call APT,postgresql); }
	@mkdir -p .var; touch $@

.var/chromium.stamp:
	@[ -x /usr/bin/chromium-headless-shell ] || { $(AS_ROOT); $(call APT,chromium-headless-shell); }
	@mkdir -p .var; touch $@

.var/curl.stamp:
	@command -v curl >/dev/null || { $(AS_ROOT); $(call APT,curl); }
	@mkdir -p .var; touch $@

# For tests alone: a machine where they cannot be had skips what needs them.
.var/nft.stamp:
	@[ -x /usr/sbin/nft ] || ( $(AS_ROOT); $(call APT,nftables iproute2) ) || true
	@mkdir -p .var; touch $@

.var/whole-chromium.stamp:
	@[ -x /usr/bin/chromium ] || ( $(AS_ROOT); $(call APT,chromium) ) || true
	@mkdir -p .var; touch $@

.var/dig.stamp:
	@{ command -v dig && command -v kdig && command -v dnsperf; } >/dev/null || ( $(AS_ROOT); $(call APT,bind9-dnsutils knot-dnsutils dnsperf) ) || true
	@mkdir -p .var; touch $@

# BIND's resolver is for tests alone, and is not to run by itself: its packages are unpacked, and not installed.
.var/named.stamp: .var/dig.stamp
	@{ command -v named && command -v named-checkzone; } >/dev/null || { mkdir -p .var/bind9 && cd .var/bind9 && apt-get download -q bind9 bind9-utils && for p in *.deb; do dpkg-deb -x $$p .; done; } || true
	@mkdir -p .var; touch $@

# So is unbound's.
.var/unbound.stamp: .var/dig.stamp
	@command -v unbound >/dev/null || { ( $(AS_ROOT); $(call APT,libevent-2.1-7 libnghttp2-14 libprotobuf-c1 libpython3.11) ) && mkdir -p .var/unbound && cd .var/unbound && apt-get download -q unbound && for p in *.deb; do dpkg-deb -x $$p .; done; } || true
	@mkdir -p .var; touch $@

.var/icap.stamp:
	@command -v c-icap-client >/dev/null || ( $(AS_ROOT); $(call APT,c-icap) ) || true
	@mkdir -p .var; touch $@

# A directory that Debian's package would start by itself is not wanted.
.var/slapd.stamp:
	@[ -x /usr/sbin/slapd ] || ( $(AS_ROOT); echo 'slapd slapd/no_configuration boolean true' | $$as debconf-set-selections; $(call APT,slapd) ) || true
	@mkdir -p .var; touch $@

AS_ROOT = as=""; if [ "$$(id -u)" != 0 ]; then as=sudo; command -v sudo >/dev/null || \
	{ echo "Debian packages are missing, and there is no sudo: run \`make deps\` once as root." >&2; exit 1; }; fi
APT = echo "Installing $(1)…"; $$as apt-get update -q && $$as env DEBIAN_FRONTEND=noninteractive \
	apt-get install -yq --no-install-recommends $(1) </dev/null

console/node_modules/.stamp: console/package.json console/package-lock.json
	cd console && npm install --no-audit --no-fund --prefer-offline
	@touch $@

web/dist/index.html: console/node_modules/.stamp $(WEBSRC)
	cd console && npm run -s build
	@touch $@

bin/widelark: web/dist/index.html $(GOSRC) go.mod go.sum
	go build -ldflags '-X main.version=$(VERSION)' -o bin/ ./cmd/...
	@touch $@

dev: .var/postgresql.stamp build ## the demo, and the console rebuilt as you edit it, on http://localhost:5173
	@trap 'kill 0' EXIT; bin/widelarkd demo --listen 127.0.0.1:8470 & cd console && npm run -s dev

bench: deps build ## measure against anchors in one run, and tell the ratios
	go test -run '^$$' -bench . -benchmem -benchtime 300ms ./core/... ./internal/catalogue ./internal/postgres ./internal/check ./internal/replay ./internal/gate/httpproxy ./internal/gate/dnsgate ./internal/gate/icapgate ./internal/outpost ./test/e2e/policies ./test/e2e/accounts | go run ./bench

# The detector drops what is kept for the next call, so what allocates nothing is not told under it.
race: deps build ## pass the tests of the packages under the race detector
	go test -race -count=1 -timeout 30m -skip 'NoAllocs|AllocatesNothing|TestGather$$' ./core/... ./internal/... ./packfile ./sealed ./spreadsheet

fuzz: ## look for inputs that break the core, half a minute each
	go test -run '^$$' -fuzz FuzzMessage -fuzztime 30s ./internal/forward
	go test -run '^$$' -fuzz FuzzParse -fuzztime 30s ./core/weburl
	go test -run '^$$' -fuzz FuzzParsePrint -fuzztime 30s ./core/pattern
	go test -run '^$$' -fuzz FuzzMend -fuzztime 30s ./core/pattern
	go test -run '^$$' -fuzz FuzzCover -fuzztime 30s ./core/match
	go test -run '^$$' -fuzz FuzzOf -fuzztime 30s ./core/cover
	go test -run '^$$' -fuzz FuzzNearMisses -fuzztime 30s ./core/tidy
	go test -run '^$$' -fuzz FuzzClassify -fuzztime 30s ./core/classify
	go test -run '^$$' -fuzz FuzzDecide -fuzztime 30s ./core/policy
	go test -run '^$$' -fuzz FuzzRead -fuzztime 30s ./internal/listfile
	go test -run '^$$' -fuzz FuzzRead -fuzztime 30s ./internal/peoplefile
	go test -run '^$$' -fuzz FuzzOpen -fuzztime 30s ./packfile
	go test -run '^$$' -fuzz FuzzParts -fuzztime 30s ./internal/parcel
	go test -run '^$$' -fuzz FuzzAnswer -fuzztime 30s ./internal/gate
	go test -run '^$$' -fuzz FuzzAnswer -fuzztime 30s ./internal/gate/dnsgate
	go test -run '^$$' -fuzz FuzzQuick -fuzztime 30s ./internal/gate/dnsgate
	go test -run '^$$' -fuzz FuzzHTTPS -fuzztime 30s ./internal/gate/dnsgate
	go test -run '^$$' -fuzz FuzzRead -fuzztime 30s ./internal/gate/icapgate
	go test -run '^$$' -fuzz FuzzParse -fuzztime 30s ./internal/journal/query
	go test -run '^$$' -fuzz FuzzOpen -fuzztime 30s ./internal/journal/segment

lint: console/node_modules/.stamp ## linters for Go and the console
	go tool -modfile=tools/lint/go.mod golangci-lint run
	cd console && npm run -s lint && npm run -s types

fmt: console/node_modules/.stamp ## format everything
	go tool -modfile=tools/lint/go.mod golangci-lint fmt
	cd console && npm run -s format

generate: console/node_modules/.stamp ## the contract from the API's Go types, and both clients from the contract
	go run ./internal/httpapi/contract > api/openapi.yaml.new && mv api/openapi.yaml.new api/openapi.yaml
	go tool -modfile=tools/go.mod oapi-codegen -config client/oapi-codegen.yaml api/openapi.yaml
	cd console && npm run -s generate

GENERATED := api/openapi.yaml client/api_gen.go console/src/api/schema.gen.ts

# The files are put back as they were, times too, so that nothing is built again for having been looked at.
verify: console/node_modules/.stamp ## fail where generated files or locks are stale
	@rm -rf .var/generated; mkdir -p .var/generated; cp -p --parents $(GENERATED) .var/generated; \
	stale=""; $(MAKE) generate >/dev/null; \
	for file in $(GENERATED); do cmp -s $$file .var/generated/$$file || stale+=" $$file"; done; \
	cp -pr .var/generated/. .; \
	if [ -n "$$stale" ]; then echo "Stale:$$stale. Run \`make generate\` and commit what changes." >&2; exit 1; fi
	@if grep -q '"resolved"' console/package-lock.json; then echo "console/package-lock.json names a download host: run npm with console/.npmrc." >&2; exit 1; fi
	go mod tidy -diff

screenshots: deps build ## take the pictures in docs/screenshots from the demo data
	go test -count=1 ./test/e2e/service -run TestScreenshots -shots $(CURDIR)/docs/screenshots

clean: ## remove what was built; the demo's data stay
	rm -rf bin web/dist/* console/node_modules .var/*.stamp .var/generated
