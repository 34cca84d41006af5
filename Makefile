# make demo starts everything; make test runs all tests. Both install what is missing.
GO ?= go
PACKAGES := ./cmd/... ./internal/... ./tools/... ./examples ./web
export PATH := /usr/local/go/bin:$(PATH)

.PHONY: demo build test cover lint setup setup-test types notice loading pictures deb clean

demo: build
	@exec ./bin/dorfbote demo $(ARGS)

build: bin/dorfbote

setup:
	@./tools/setup.sh

web/node_modules/.stamp: web/package.json web/package-lock.json | setup
	cd web && npm ci --ignore-scripts --no-audit --no-fund --loglevel=error
	@touch $@

WEB_SOURCES := $(shell find web/src web/public web/index.html web/vite.config.ts web/tsconfig.json -type f)

web/dist/index.html: web/node_modules/.stamp $(WEB_SOURCES)
	cd web && npx --no-install vite build --logLevel warn
	@touch $@

GO_SOURCES := $(shell find cmd internal examples web/embed.go go.mod go.sum -type f -not -name '*_test.go')

# As git knows it: the last tag, how many commits since, and whether anything is not committed.
VERSION := $(shell git describe --tags --always --dirty --match 'v[0-9]*' 2>/dev/null || echo unknown)

bin/dorfbote: web/dist/index.html $(GO_SOURCES) | setup
	$(GO) build -ldflags "-X main.version=$(VERSION)" -o $@ ./cmd/dorfbote

setup-test:
	@./tools/setup.sh test

# With RACE=1, what many goroutines share is run with the race detector.
RACED := ./internal/core/... ./internal/engine/... ./internal/api/... ./internal/store/...
TEST := $(GO) test -shuffle=on -timeout 20m

test: build setup-test
	cd web && npx --no-install vitest run
ifdef RACE
	$(GO) run ./tools/withpg $(TEST) -race $(RACED)
	$(GO) run ./tools/withpg $(TEST) $$($(GO) list $(PACKAGES) | grep -vE '/internal/(core|engine|api|store)(/|$$)')
else
	$(GO) run ./tools/withpg $(TEST) $(PACKAGES)
endif

# Coverage of each package, by all tests together.
cover: build setup-test
	$(GO) run ./tools/withpg $(GO) test -timeout 20m -coverpkg=./internal/... -coverprofile=bin/cover.out $(PACKAGES) >bin/cover.log || { tail -40 bin/cover.log; exit 1; }
	@$(GO) run ./tools/covered bin/cover.out

lint: web/node_modules/.stamp
	@test -z "$$(gofmt -l cmd internal tools examples web/embed.go)" || { echo "gofmt would change:"; gofmt -l cmd internal tools examples; exit 1; }
	$(GO) tool -modfile=tools/lint/go.mod golangci-lint run $(PACKAGES)
	$(GO) run ./tools/layers
	@./tools/current.sh
	cd web && npx --no-install tsc --noEmit && npx --no-install eslint . && npx --no-install prettier --check --log-level warn .

# The API's description and the types made of it; run after changing the API.
types: web/node_modules/.stamp
	$(GO) run ./cmd/dorfbote openapi > internal/api/openapi.json
	cd web && npx --no-install openapi-typescript ../internal/api/openapi.json -o src/api/schema.d.ts
	cd web && node tools/sheet-types.mjs ../docs/schema/sheet.schema.json > src/api/sheet.d.ts

# The licences of everything that is shipped; run after changing what Dorfbote is made of.
notice: web/node_modules/.stamp
	$(GO) run ./tools/notice > NOTICE

# What goes over the wire until the application can be used, and how long it takes.
loading:
	$(GO) run ./tools/loading

# The README's pictures, of a running demo.
pictures:
	$(GO) run ./tools/pictures

# A Debian package with systemd units, in dist/.
deb: build
	@./packaging/build.sh

clean:
	rm -rf bin dist web/node_modules web/dist/assets web/dist/index.html
