# Inner Gate. The two commands of a fresh machine: make demo, make test.
SHELL := /bin/bash
TAGS := sqlite_fts5
GO := go
BIN := bin/innergate
export CGO_ENABLED := 1
# Nothing of a build depends on the folder in which it is made, so that another clone finds what was compiled before.
export GOFLAGS := -trimpath
# Compilers, linters and tests live shortly: collecting their garbage less often saves a tenth of the processor.
export GOGC ?= 400
# What is thrown away again is written to memory where there is some to be written to.
SCRATCH := $(shell [ -w /dev/shm ] && [ $$(df -Pk /dev/shm | awk 'NR==2{print $$4}') -gt 1000000 ] && echo /dev/shm || echo $${TMPDIR:-/tmp})

# Some npm packages carry Go code, which is none of ours.
PACKAGES = $$($(GO) list ./... | grep -v /node_modules/)

.PHONY: build demo test bench lint lint-more fuzz tools console types screenshots clean

build: console
	@echo "building $(BIN)"
	@$(GO) build -tags $(TAGS) -o $(BIN) ./cmd/innergate

# The console's packages are installed again only when they changed.
web/node_modules/.package-lock.json: web/package.json web/package-lock.json
	@echo "installing the console's packages (npm ci)"
	@cd web && npm ci --no-audit --no-fund --loglevel=error
	@touch $@

console: web/dist/index.html

# The console's types are made from the API's description, which is kept; a test holds it against the service.
web/src/api/schema.ts: web/node_modules/.package-lock.json web/openapi.json
	@cd web && npm run -s types >/dev/null

web/dist/index.html: web/src/api/schema.ts web/index.html web/vite.config.ts $(shell find web/src web/public -type f ! -name schema.ts)
	@echo "building the console"
	@cd web && npx vite build --logLevel warn
	@touch web/dist/.gitkeep

# The API's description is made from the service's own list of routes, and the console's types from it.
types: web/node_modules/.package-lock.json
	@$(GO) run -tags $(TAGS) ./cmd/innergate openapi > web/openapi.json.new && mv web/openapi.json.new web/openapi.json
	@cd web && npm run -s types

demo: build
	@GOGC=100 $(BIN) demo

# What the tests need besides Go and Node: a browser and two judges of XML.
tools:
	@missing=""; for p in chromium:chromium xmlsec1:xmlsec1 xmllint:libxml2-utils nginx:nginx-light; do command -v $${p%%:*} >/dev/null || missing="$$missing $${p##*:}"; done; \
	if [ -n "$$missing" ]; then echo "installing$$missing"; sudo=""; [ "$$(id -u)" = 0 ] || sudo=sudo; \
	$$sudo apt-get update -qq && DEBIAN_FRONTEND=noninteractive $$sudo apt-get install -y -qq --no-install-recommends $$missing fonts-dejavu-core >/dev/null; fi

lint: console
	@echo "gofmt";       out=$$(gofmt -l $$(git ls-files '*.go')); [ -z "$$out" ] || { echo "not formatted: $$out"; exit 1; }
	@echo "go vet";      $(GO) vet -tags $(TAGS) $(PACKAGES)
	@$(MAKE) -s lint-more

# What go test does not do by itself.
lint-more: console
	@echo "staticcheck"; $(GO) tool staticcheck -tags $(TAGS) $(PACKAGES)
	@echo "revive";      $(GO) tool revive -config revive.toml $(PACKAGES)
	@echo "vue-tsc";     cd web && npx vue-tsc --noEmit
	@echo "eslint";      cd web && npx eslint --max-warnings 0 .
	@echo "prettier";    cd web && npx prettier --check --log-level warn .
	@out=$$(cd web && git ls-files 'src/*.vue' 'src/*.ts' | grep -v components.d.ts | xargs awk 'length > 140 { print FILENAME ":" FNR }'); \
	[ -z "$$out" ] || { echo "lines over 140 characters: $$out"; exit 1; }
	@echo "console tests"; cd web && npx vitest run --reporter=dot

# The sources are looked at beside the tests: those wait for browsers and clocks now and then. go test runs vet itself, on what it has compiled anyway.
test: tools build
	@echo "gofmt"; out=$$(gofmt -l $$(git ls-files '*.go')); [ -z "$$out" ] || { echo "not formatted: $$out"; exit 1; }
	@$(MAKE) -s lint-more > bin/lint.log 2>&1 & lint=$$!; \
	echo "go test"; TMPDIR=$(SCRATCH) INNERGATE_JUDGES=required INNERGATE_BROWSER=required $(GO) test -count 1 -tags $(TAGS) -ldflags "-s -w" -vet=all -p 3 -parallel 4 -timeout 20m $(PACKAGES); tests=$$?; \
	wait $$lint; lint=$$?; cat bin/lint.log; [ $$tests = 0 ] && [ $$lint = 0 ]

# What is measured is measured as the service runs.
bench: build
	@GOGC=100 $(GO) test -tags $(TAGS) -run '^$$' -bench . -benchtime 2s -timeout 30m ./core/saml ./core/claims ./core/access ./gate/sources ./bench

# Each fuzz target for a while; FUZZTIME sets how long.
FUZZTIME ?= 20s
fuzz:
	@for t in ./core/xmltree:FuzzParse ./core/xmltree:FuzzStream ./core/saml:FuzzResponse ./core/saml:FuzzRequest ./core/saml:FuzzRedirect ./core/saml:FuzzMetadata \
		./core/wire:FuzzChecker ./core/files:FuzzRead ./core/jose:FuzzParse ./core/jose:FuzzKeySet ./core/oidc:FuzzReadTokens ./core/oidc:FuzzReadParameters ./core/oidc:FuzzReadRequest ./core/oidc:FuzzReadMore ./core/oidc:FuzzRequestObject; do \
	echo "$$t"; $(GO) test -tags $(TAGS) $${t%%:*} -run '^$$' -fuzz "^$${t##*:}$$" -fuzztime $(FUZZTIME) -fuzzminimizetime 20x || exit 1; done

# The pictures in docs/screenshots, taken anew.
screenshots: tools build
	@fc-list ':lang=ja' 2>/dev/null | grep -q . || { echo "installing fonts-noto-cjk, for names in other scripts"; sudo=""; [ "$$(id -u)" = 0 ] || sudo=sudo; \
	$$sudo apt-get update -qq && DEBIAN_FRONTEND=noninteractive $$sudo apt-get install -y -qq --no-install-recommends fonts-noto-cjk >/dev/null; }
	@rm -rf bin/shots && mkdir -p bin/shots && INNERGATE_SHOTS=$(CURDIR)/bin/shots $(GO) test -tags $(TAGS) -count 1 ./browser
	@for s in $$(cd docs/screenshots && ls *.png); do cp bin/shots/$$s docs/screenshots/$$s; done

clean:
	@rm -rf bin web/node_modules && find web/dist -mindepth 1 ! -name .gitkeep -delete
