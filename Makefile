# make demo and make test are the two that everybody needs; see README.md.
SHELL := /bin/bash
# The same for all that is compiled, so that nothing is compiled twice; nothing tells where it was. Without the tag gin
# brings a codec for MessagePack, which nobody here speaks and which takes as long to compile as all of Koinos.
export GOFLAGS := -trimpath -tags=nomsgpack
export CGO_CFLAGS := -O2

WEB := $(shell find web -path web/node_modules -prune -o -path web/dist -prune -o -type f -print)
GO := $(shell find . \( -name "*.go" -o -name "*.[ch]" -o -path "./core/x12/dictionary/*" -o -path "./core/mapping/standard/*" -o -path "./demo/*" -o -path "./store/migrations/*" \) -not -path "./web/node_modules/*" -type f) go.mod go.sum
# "make test" runs each fuzz test on its kept seeds, as go test does; "make fuzz" hunts for more. What the hunt finds is
# there at random, and would stop a change that has nothing to do with it. Some seconds each, counted in runs;
# "make fuzz FUZZ_GUIDED=1 FUZZ_RUNS=100" watches which code each input reaches, for which everything is compiled once
# more, and runs longer.
FUZZ := core/source:FuzzCSV:7500 core/source:FuzzXLSX:500 core/source:FuzzODS:1000 core/source:FuzzFixedWidth:10000 core/mapping:FuzzParse:13000 core/mapping:FuzzNumber:6500 core/mapping:FuzzExpression:6500 core/jsondoc:FuzzParse:39000 core/jsondoc:FuzzPath:19500 core/drafting:FuzzDraft:500 core/x12:FuzzRead:13000 core/x12:FuzzAddress:26000 core/partner:FuzzParse:6500 core/partner/draft:FuzzDraft:2000 core/syncing:FuzzParse:6500 core/system:FuzzParse:9500 core/system:FuzzLink:9500 core/system:FuzzRead:9500 core/system:FuzzErrors:9500 core/system:FuzzFile:9500 core/system/draft:FuzzFromOpenAPI:3000 remote:FuzzVerify:13000 store/pack:FuzzRead:20000
FUZZ_RUNS ?= 1
FUZZ_GUIDED ?=
# Packages with goroutines of their own: their tests run under the race detector too.
GOROUTINES := ./remote ./syncs ./notify ./store ./jobs ./book ./load ./exchange ./folder ./service

.PHONY: demo test build install check check-go check-web unit fuzz bench draft-score screenshots generate clean

# Where make install puts things; DESTDIR is for who packages.
PREFIX ?= /usr/local

demo: build
	@bin/koinos demo

test: chromium build check unit

build: bin/koinos

web/node_modules/.installed: web/package-lock.json
	@echo 'Fetching the packages of the console; the first time this takes half a minute.'
	@cd web && npm ci --no-audit --no-fund --ignore-scripts
	@touch $@

# The console's types, from the API's description.
web/src/api/schema.d.ts: web/node_modules/.installed docs/openapi.json
	@cd web && npm run --silent api > /dev/null

web/dist/index.html: web/src/api/schema.d.ts $(WEB) $(wildcard docs/*.md docs/*/*.md docs/*.svg)
	@echo 'Building the console.'
	@cd web && npm run --silent build -- --logLevel error
	@touch $@ web/dist/.gitkeep

bin/koinos: web/dist/index.html $(GO) $(shell find store/migrations demo/lists demo/mappings demo/documents demo/expected demo/partners demo/orders -type f)
	@echo 'Compiling Koinos; the first time this takes some minutes.'
	@go build -ldflags "-X koinos/cli/shell.built=$$(git describe --always --dirty --tags 2>/dev/null)" -o $@ ./cmd/koinos

# The program, its manual pages, and what completes its commands in bash, zsh and fish.
install: build
	install -Dm755 bin/koinos $(DESTDIR)$(PREFIX)/bin/koinos
	bin/koinos manual $(DESTDIR)$(PREFIX)/share/man/man1
	mkdir -p $(DESTDIR)$(PREFIX)/share/bash-completion/completions $(DESTDIR)$(PREFIX)/share/zsh/site-functions $(DESTDIR)$(PREFIX)/share/fish/vendor_completions.d
	bin/koinos completion bash > $(DESTDIR)$(PREFIX)/share/bash-completion/completions/koinos
	bin/koinos completion zsh > $(DESTDIR)$(PREFIX)/share/zsh/site-functions/_koinos
	bin/koinos completion fish > $(DESTDIR)$(PREFIX)/share/fish/vendor_completions.d/koinos.fish

# The two halves keep two cores busy.
check: web/dist/index.html
	@$(MAKE) --no-print-directory -j2 check-go check-web

check-go:
	@test -z "$$(gofmt -l $$(git ls-files '*.go'))" || { echo 'not gofmt-ed:'; gofmt -l $$(git ls-files '*.go'); exit 1; }
	go vet ./...
	go tool staticcheck ./...

check-web:
	cd web && npm run --silent check && npm run --silent test

# Many tests wait for one program or another: three at a time keep two cores busy. For the race detector SQLite is
# compiled once more, which takes a third of the time when it is made less fast.
unit: bin/koinos
	go test -timeout 60m -parallel 3 ./...
	CGO_CFLAGS=-O1 go test -race -short $(GOROUTINES)

# Each parser's fuzz test, from the kept seeds on: what earlier runs on this machine found is not gone through again.
fuzz:
	@dir=$$(mktemp -d); trap 'rm -rf "$$dir"' EXIT; \
	for f in $(FUZZ); do IFS=: read -r package name runs <<< "$$f"; program=$$dir/$${package//\//-}; \
	  [ -x "$$program" ] || go test -c $(if $(FUZZ_GUIDED),-fuzz .) -o "$$program" ./$$package || exit 1; \
	  (cd $$package && "$$program" -test.run '^$$' -test.fuzz "^$$name\$$" -test.fuzztime $$((runs * $(FUZZ_RUNS)))x \
	    -test.fuzzminimizetime 10x -test.fuzzcachedir "$$dir/found") || exit 1; done

bench:
	go test ./core/... ./load ./store ./syncs -run '^$$' -bench . -benchmem -count 3

# How good drafted mappings are for the documents of the corpus.
draft-score:
	go run ./core/drafting/score

# Pictures of today's product for the README.
screenshots: chromium build
	go run ./demo/pictures

# What is made from the code: schema, findings, API description, demo data.
generate: web/node_modules/.installed
	go generate ./demo
	go test ./core/mapping ./core/system ./e2e -run 'Published' -update
	go test ./core/x12 -run Reference -update
	go test ./load -run 'TestEveryFinding|TestGuide' -update
	go test ./store -run DataModel -update

.PHONY: chromium
chromium:
	@command -v chromium >/dev/null || { echo "Installing Debian's chromium for the console's tests"; \
	  SUDO=$$([ $$(id -u) = 0 ] || echo sudo); $$SUDO apt-get update -qq && $$SUDO apt-get install -y -qq --no-install-recommends chromium fonts-dejavu-core; }

clean:
	rm -rf bin web/node_modules; find web/dist -mindepth 1 ! -name .gitkeep -delete
