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

.PHONY: build build-nodes demo test bench soak lint lint-more fuzz tools console types screenshots package package-tools package-check clean

build: console
	@echo "building $(BIN)"
	@$(GO) build -tags $(TAGS) -o $(BIN) ./cmd/innergate

# The same with what nodes need that keep the records together: an engine in C, from Debian.
NODE_TAGS := $(TAGS) libsqlite3 nodes
NODE_BUILD := CGO_LDFLAGS_ALLOW="-Wl,-z,now" $(GO)
build-nodes: tools console
	@echo "building $(BIN)-nodes"
	@$(NODE_BUILD) build -tags "$(NODE_TAGS)" -o $(BIN)-nodes ./cmd/innergate

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

# What the tests need besides Go and Node: a browser, two judges of XML, a directory server, a Kerberos realm, and the engine of nodes.
tools:
	@missing=""; for p in chromium:chromium xmlsec1:xmlsec1 xmllint:libxml2-utils nginx:nginx-light ldapadd:ldap-utils kinit:krb5-user curl:curl; do command -v $${p%%:*} >/dev/null || missing="$$missing $${p##*:}"; done; \
	[ -x /usr/sbin/slapd ] || missing="$$missing slapd"; \
	[ -x /usr/sbin/krb5kdc ] && [ -x /usr/sbin/kadmin.local ] || missing="$$missing krb5-kdc krb5-admin-server"; \
	[ -e /usr/include/dqlite.h ] || missing="$$missing libdqlite-dev libraft-dev"; \
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
	@echo "staticcheck of nodes"; $(NODE_BUILD) tool staticcheck -tags "$(NODE_TAGS)" ./nodes
	@echo "vue-tsc";     cd web && npx vue-tsc --noEmit
	@echo "eslint";      cd web && npx eslint --max-warnings 0 .
	@echo "prettier";    cd web && npx prettier --check --log-level warn .
	@out=$$(cd web && git ls-files 'src/*.vue' 'src/*.ts' | grep -v components.d.ts | xargs awk 'length > 140 { print FILENAME ":" FNR }'); \
	[ -z "$$out" ] || { echo "lines over 140 characters: $$out"; exit 1; }
	@echo "console tests"; cd web && npx vitest run --reporter=dot

# The sources are looked at beside the tests: those wait for browsers and clocks now and then. go test runs vet itself, on what it has compiled anyway.
# Nodes that are killed hold elections, which take as long as the machine lets them: those tests come last, with nothing beside them.
test: tools build build-nodes
	@echo "gofmt"; out=$$(gofmt -l $$(git ls-files '*.go')); [ -z "$$out" ] || { echo "not formatted: $$out"; exit 1; }
	@$(MAKE) -s lint-more > bin/lint.log 2>&1 & lint=$$!; \
	echo "go test"; TMPDIR=$(SCRATCH) INNERGATE_JUDGES=required INNERGATE_BROWSER=required INNERGATE_NODES=required $(GO) test -count 1 -tags $(TAGS) -ldflags "-s -w" -vet=all -p 3 -parallel 4 -timeout 20m $$($(GO) list ./... | grep -v -e /node_modules/ -e /soak$$) && \
	TMPDIR=$(SCRATCH) $(NODE_BUILD) test -count 1 -tags "$(NODE_TAGS)" -vet=all ./nodes; tests=$$?; \
	wait $$lint; lint=$$?; cat bin/lint.log; [ $$tests = 0 ] && [ $$lint = 0 ] && \
	TMPDIR=$(SCRATCH) INNERGATE_NODES=required $(GO) test -count 1 -tags $(TAGS) -ldflags "-s -w" -vet=all -timeout 20m ./soak

# What is measured is measured as the service runs.
bench: build
	@GOGC=100 $(GO) test -tags $(TAGS) -run '^$$' -bench . -benchtime 2s -timeout 30m ./core/saml ./core/claims ./core/access ./gate/sources ./gate/ldapdir ./gate/readings ./gate/accounts ./core/kerberos ./bench

# Two hundred kills under load, and an hour of it; SOAK and SOAK_MINUTES set how many and how long.
SOAK ?= 200
SOAK_MINUTES ?= 60
soak: build
	@INNERGATE_SOAK=$(SOAK) INNERGATE_SOAK_MINUTES=$(SOAK_MINUTES) $(GO) test -tags $(TAGS) -v -count 1 -timeout 3h ./soak

# Each fuzz target for a while; FUZZTIME sets how long.
FUZZTIME ?= 20s
fuzz:
	@for t in ./core/xmltree:FuzzParse ./core/xmltree:FuzzStream ./core/saml:FuzzResponse ./core/saml:FuzzRequest ./core/saml:FuzzRedirect ./core/saml:FuzzMetadata \
		./core/wire:FuzzChecker ./core/files:FuzzRead ./core/jose:FuzzParse ./core/jose:FuzzKeySet ./core/oidc:FuzzReadTokens ./core/oidc:FuzzReadParameters ./core/oidc:FuzzReadRequest ./core/oidc:FuzzReadMore ./core/oidc:FuzzRequestObject ./core/kerberos:FuzzRead ./core/scim:FuzzMessages; do \
	echo "$$t"; $(GO) test -tags $(TAGS) $${t%%:*} -run '^$$' -fuzz "^$${t##*:}$$" -fuzztime $(FUZZTIME) -fuzzminimizetime 20x || exit 1; done

# The pictures in docs/screenshots, taken anew.
screenshots: tools build
	@fc-list ':lang=ja' 2>/dev/null | grep -q . || { echo "installing fonts-noto-cjk, for names in other scripts"; sudo=""; [ "$$(id -u)" = 0 ] || sudo=sudo; \
	$$sudo apt-get update -qq && DEBIAN_FRONTEND=noninteractive $$sudo apt-get install -y -qq --no-install-recommends fonts-noto-cjk >/dev/null; }
	@rm -rf bin/shots && mkdir -p bin/shots && INNERGATE_SHOTS=$(CURDIR)/bin/shots $(GO) test -tags $(TAGS) -count 1 ./browser
	@for s in $$(cd docs/screenshots && ls *.png); do cp bin/shots/$$s docs/screenshots/$$s; done

# What an operator installs, in bin/package: packages for Debian, of which one can be a node, and an image from scratch. All are the same octets whenever they
# are built from the same sources.
VERSION ?= 0.1.0
SOURCE_DATE_EPOCH ?= $(shell git log -1 --format=%ct 2>/dev/null || echo 1780000000)
DEB := bin/package/innergate_$(VERSION)_$$(dpkg --print-architecture).deb
NODES_DEB := bin/package/innergate-nodes_$(VERSION)_$$(dpkg --print-architecture).deb
STATIC_TAGS := $(TAGS) netgo osusergo timetzdata sqlite_omit_load_extension
export SOURCE_DATE_EPOCH VERSION

package-tools:
	@missing=""; for p in buildah:buildah systemd-analyze:systemd dpkg-deb:dpkg man:man-db; do command -v $${p%%:*} >/dev/null || missing="$$missing $${p##*:}"; done; \
	[ -e /etc/ssl/certs/ca-certificates.crt ] || missing="$$missing ca-certificates"; \
	if [ -n "$$missing" ]; then echo "installing$$missing"; sudo=""; [ "$$(id -u)" = 0 ] || sudo=sudo; \
	$$sudo apt-get update -qq && DEBIAN_FRONTEND=noninteractive $$sudo apt-get install -y -qq --no-install-recommends $$missing >/dev/null; fi

package: package-tools tools console
	@rm -rf bin/package && mkdir -p bin/package/root/usr/bin bin/package/root/etc/ssl/certs bin/package/root/var/lib/innergate bin/package/root/tmp
	@echo "building the program"
	@$(GO) build -tags $(TAGS) -buildvcs=false -ldflags "-s -w -buildid= -X main.version=$(VERSION)" -o bin/package/innergate ./cmd/innergate
	@$(GO) run -tags $(TAGS) ./packaging/manual bin/package $(VERSION)
	@gzip -9n bin/package/man/*.1
	@$(GO) run ./packaging/materials bin/package/innergate $(VERSION) > bin/package/materials.cdx.json
	@echo "making the package for Debian"
	@GOBIN=$(CURDIR)/bin $(GO) install github.com/goreleaser/nfpm/v2/cmd/nfpm@v2.48.0
	@ARCH=$$(dpkg --print-architecture) bin/nfpm package --config packaging/nfpm.yaml --packager deb --target $(DEB) >/dev/null
	@echo "making the package of what can be a node"
	@$(NODE_BUILD) build -tags "$(NODE_TAGS)" -buildvcs=false -ldflags "-s -w -buildid= -X main.version=$(VERSION)" -o bin/package/innergate-nodes \
		./cmd/innergate
	@sed -f packaging/nodes.sed packaging/nfpm.yaml > bin/package/nodes.yaml
	@ARCH=$$(dpkg --print-architecture) bin/nfpm package --config bin/package/nodes.yaml --packager deb --target $(NODES_DEB) >/dev/null
	@echo "building the program without shared libraries (some minutes at the first time)"
	@$(GO) build -tags "$(STATIC_TAGS)" -buildvcs=false -ldflags '-s -w -buildid= -X main.version=$(VERSION) -linkmode external -extldflags "-static"' \
		-o bin/package/root/usr/bin/innergate ./cmd/innergate
	@echo "making the image"
	@cp /etc/ssl/certs/ca-certificates.crt bin/package/root/etc/ssl/certs/ && chmod 1777 bin/package/root/tmp
	@packaging/image.sh bin/package $(VERSION)
	@rm -rf bin/package/root && ls -l bin/package | awk 'NR > 1 && ($$9 ~ /deb$$|tar$$|json$$/) { print $$5, $$9 }'

# Installs, upgrades, removes and purges the package on a copy of this machine's files that is thrown away; needs to be root.
package-check: package-tools
	@packaging/check.sh

clean:
	@rm -rf bin web/node_modules && find web/dist -mindepth 1 ! -name .gitkeep -delete
