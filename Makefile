# make demo: installs what is missing, builds, and serves the demo estate.
# make test: installs what the tests need, and passes them.
# make help lists the rest.

SHELL := /bin/bash -o pipefail
LISTEN ?= 127.0.0.1:7373
BINARY := bin/steady-compass
WEB_SOURCES := $(shell find web/src web/public -type f 2>/dev/null) web/index.html web/vite.config.ts
GO_SOURCES := $(shell find . -name '*.go' -not -path './web/node_modules/*') go.mod go.sum demo/fernmoor.estate $(wildcard store/migrations/*.sql)
# What the build needs, and how old it may be.
GO_NEEDED := $(shell sed -n 's/^go \([0-9]*\.[0-9]*\).*/\1/p' go.mod)
NODE_NEEDED := 20.19
GOTOOL := go tool -modfile=tools/go.mod

.PHONY: demo build test check go-test bench load fuzz api pictures help clean

help: ## this list
	@grep -hE '^[a-z-]+:.*## ' $(MAKEFILE_LIST) | sed -E 's/:[^#]*## /\t/' | expand -t 12

demo: build ## build, and serve the demo estate
	$(BINARY) demo --listen $(LISTEN)

# Said before anything is tried: a tool that is missing or too old ends elsewhere in an error that does not name it.
.PHONY: tools
tools:
	@command -v go >/dev/null || { echo "Go is not installed: this needs Go $(GO_NEEDED) or newer, from Debian's golang-go or https://go.dev/dl/"; exit 1; }
	@have=$$(go env GOVERSION | sed 's/^go//'); [ "$$(printf '%s\n' $(GO_NEEDED) "$$have" | sort -V | head -1)" = "$(GO_NEEDED)" ] || \
	{ echo "Go $$have is too old: this needs Go $(GO_NEEDED) or newer, from Debian's golang-go or https://go.dev/dl/"; exit 1; }
	@command -v node >/dev/null && command -v npm >/dev/null || { echo "Node is not installed: this needs Node $(NODE_NEEDED) or newer with npm, from Debian's nodejs and npm"; exit 1; }
	@have=$$(node --version | sed 's/^v//'); [ "$$(printf '%s\n' $(NODE_NEEDED) "$$have" | sort -V | head -1)" = "$(NODE_NEEDED)" ] || \
	{ echo "Node $$have is too old: this needs Node $(NODE_NEEDED) or newer, from Debian's nodejs and npm"; exit 1; }

build: $(BINARY) ## the program, the interface embedded

$(BINARY): $(GO_SOURCES) web/dist/index.html | tools
	CGO_ENABLED=0 go build -trimpath -o $@ ./cmd/steady-compass

web/node_modules/.installed: web/package-lock.json | tools
	cd web && npm ci --no-audit --no-fund
	touch $@

web/dist/index.html: web/node_modules/.installed $(WEB_SOURCES)
	cd web && npm run build
	touch web/dist/.keep

.PHONY: deb image
deb: build ## the Debian package, in dist/
	packaging/deb.sh $(BINARY) dist

image: build ## the container image steady-compass, by podman (or ENGINE)
	packaging/image.sh $(BINARY) steady-compass

# The benches wait for browsers and for packets more than they reckon: what is checked without running goes on beside them.
test: web/dist/index.html bench-tools ## everything that must pass
	$(MAKE) --jobs 2 --output-sync=target check go-test

check: web/dist/index.html ## types, lint, formatting and static checks
	cd web && npm run types && npm run lint && npm run api-check
	go vet ./...
	$(GOTOOL) staticcheck ./...
	@unformatted=$$($(GOTOOL) gofumpt -l cmd collect core demo docs intake fetch lab people server store web/*.go); \
	if [ -n "$$unformatted" ]; then echo "gofumpt would change: $$unformatted"; exit 1; fi

# The benches of lab/ take as long as all the rest: they begin first, and the others go on beside them.
go-test: web/dist/index.html bench-tools ## the Go tests, the browser and the name server among them
	go test -count=1 -timeout 40m ./lab ./...

# What the benches of lab/ need: the browser that the interface is tested in, the name server that answers are held
# against, the web servers whose configuration is read, a container engine to read from, and network namespaces and the
# kernel's packet filter. Root, or sudo, installs them where they are missing; what serves is not started by that.
.PHONY: bench-tools judge
bench-tools:
	@missing=; for tool in chromium nsd podman busybox nft:nftables iptables ip:iproute2 nginx:nginx-light apache2:apache2-bin haproxy; do \
	  command -v "$${tool%%:*}" >/dev/null || missing="$$missing $${tool##*:}"; done; \
	[ -z "$$missing" ] || { \
	  if [ "$$(id -u)" = 0 ]; then run=; else run=sudo; fi; \
	  policy=/usr/sbin/policy-rc.d; made=; \
	  [ -e $$policy ] || { printf '#!/bin/sh\nexit 101\n' | $$run tee $$policy >/dev/null && $$run chmod 755 $$policy && made=1; }; \
	  $$run apt-get update -q && $$run env DEBIAN_FRONTEND=noninteractive apt-get install -y -q --no-install-recommends $$missing; \
	  done=$$?; [ -z "$$made" ] || $$run rm -f $$policy; exit $$done; }

judge: bench-tools web/dist/index.html ## the judges in full: 300 random zones, ten million random packets, 16,000 edits, 1,500 sets of listeners, 150 rulesets and 200 estates in the kernel, 3,000 configurations of each web server, 300 kills, the mends of 600 estates
	go test ./lab -count=1 -v -run NameServer -judge.zones 300 -judge.questions 60
	go test ./core/mend -count=1 -v -timeout 60m -run 'Random|Mistakes' -mends.estates 600 -mends.mistakes 3000 -mends.several 1500
	go test ./core/judge -count=1 -v -timeout 60m -run Packets -packets 10000000
	go test ./core/findings -count=1 -v -timeout 60m -run 'Garbled|AfterEdits' -garbled 4000 -edits 500
	go test ./lab -count=1 -v -timeout 60m -run StrangersRulesets -judge.rulesets 150
	go test ./lab -count=1 -v -timeout 60m -run WebServers -judge.configurations 3000
	go test ./core/look -count=1 -v -timeout 60m -run SuspectsFind -judge.faults 2000
	go test ./core/findings -count=1 -v -timeout 60m -run Rings -judge.rings 3000
	go test ./core/effect ./core/survey ./core/exposure -count=1 -v -timeout 60m -run AfterEdits -judge.estates 60
	go test ./core/uses -count=1 -v -timeout 60m -run AfterEdits -judge.edits 600
	go test ./core/change -count=1 -v -timeout 60m -run 'Random|Stepping' -judge.drafts 400
	go test ./lab -count=1 -v -timeout 60m -run LooksSee -judge.looks 40
	go test ./lab -count=1 -v -timeout 90m -run FaultsAreFound -judge.laid-faults 100
	go test ./lab -count=1 -v -timeout 60m -run AgainstAnAuthority -judge.challenges 1000
	go test ./lab -count=1 -v -timeout 60m -run KilledWithTwoHands -judge.kills 150
	go test ./lab -count=1 -v -timeout 60m -run Kernel -judge.sockets 1500 -judge.estates 200 -judge.connections 260

FUZZTIME ?= 1000x
fuzz: web/dist/index.html ## each fuzz target for FUZZTIME: a number of inputs (1000x) or a time (10m)
	go test ./core/table -run '^$$' -fuzz FuzzWrite -fuzztime $(FUZZTIME) -fuzzminimizetime 1x
	go test ./core/notation -run '^$$' -fuzz FuzzParsePrint -fuzztime $(FUZZTIME) -fuzzminimizetime 1x
	go test ./intake/zonefile -run '^$$' -fuzz FuzzRead -fuzztime $(FUZZTIME) -fuzzminimizetime 1x
	go test ./intake/packetfilter -run '^$$' -fuzz FuzzListings -fuzztime $(FUZZTIME) -fuzzminimizetime 1x
	go test ./intake/sockets -run '^$$' -fuzz FuzzRead -fuzztime $(FUZZTIME) -fuzzminimizetime 1x
	go test ./intake/format -run '^$$' -fuzz FuzzRead -fuzztime $(FUZZTIME) -fuzzminimizetime 1x
	go test ./intake/webserver -run '^$$' -fuzz FuzzRead -fuzztime $(FUZZTIME) -fuzzminimizetime 1x
	go test ./intake/looks -run '^$$' -fuzz FuzzRead -fuzztime $(FUZZTIME) -fuzzminimizetime 1x
	go test ./intake/archive -run '^$$' -fuzz FuzzFiles -fuzztime $(FUZZTIME) -fuzzminimizetime 1x
	go test ./intake/pem -run '^$$' -fuzz FuzzRead -fuzztime $(FUZZTIME) -fuzzminimizetime 1x
	go test ./intake/account -run '^$$' -fuzz FuzzRead -fuzztime $(FUZZTIME) -fuzzminimizetime 1x

bench: ## the benchmarks, up to a hundred thousand names
	go test ./core/... ./intake/... ./server -run '^$$' -bench . -benchmem -timeout 30m

LOADTIME ?= 5000x
load: web/dist/index.html ## fifty who read and five who edit, at ten thousand names: LOADTIME questions
	go test ./lab -run '^$$' -bench Load -benchtime $(LOADTIME) -timeout 30m

api: web/node_modules/.installed ## the API's description and the interface's types, made anew
	go test ./server -run OpenAPI -update
	cd web && npm run api

pictures: web/dist/index.html bench-tools ## docs/screenshots, made anew
	go test ./lab -run Pictures -count=1 -pictures $(CURDIR)/docs/screenshots

clean: ## what was built
	rm -rf bin web/dist/* web/node_modules
