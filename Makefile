# make demo and make test need nothing but Go (and, for make test, Debian's
# packages, which they install themselves when run as root).

export CGO_ENABLED = 0
VERSION ?= 0.1.0
COMMIT  ?= $(shell git rev-parse --short HEAD 2>/dev/null || echo unknown)
COMMITTED ?= $(shell git log -1 --format=%ct 2>/dev/null || echo 0)
LDFLAGS  = -s -w -X main.version=$(VERSION) -X main.commit=$(COMMIT)
STATICCHECK = go run honnef.co/go/tools/cmd/staticcheck@v0.8.2

.PHONY: build install dist demo test race bench lint screenshots fuzz soak clean

build:
	go build -trimpath -buildvcs=false -ldflags '$(LDFLAGS)' -o bin/hemzo ./cmd/hemzo

# make install PREFIX=$HOME/.local: the program, its manual pages and completions.
PREFIX ?= /usr/local
install: build
	go run ./internal/dist -pages -version $(VERSION) -commit $(COMMIT) -to $(DESTDIR)$(PREFIX)
	install -D -m 755 bin/hemzo $(DESTDIR)$(PREFIX)/bin/hemzo

# Archives for four systems, Debian packages, checksums: the same commit gives
# the same bytes.
dist:
	rm -rf dist
	go run ./internal/dist -version $(VERSION) -commit $(COMMIT) -time $(COMMITTED) -to dist

demo: build
	./bin/hemzo demo

test: build
	./scripts/install-test-needs
	go test -timeout 45m ./...
	./scripts/test-as-another-user

# The packages with goroutines of their own, under Go's race detector, which
# needs a C compiler.
RACY = ./internal/control ./internal/turn ./internal/filelock ./internal/place ./internal/copies ./internal/template ./internal/reset ./internal/container \
	./internal/engine/fake ./internal/engine/sessionlock
race:
	CGO_ENABLED=1 go test -race -timeout 30m $(RACY)
	CGO_ENABLED=1 go test -race -timeout 30m ./internal/engine/sqlite -rounds 10
	CGO_ENABLED=1 go test -race -timeout 30m ./internal/engine/postgres -rounds 10 -run 'RandomWork|Bound|Kept|TwoAtOnce|SlowWorkAside|OneSpare|Snapshot|Blocked|Replaced|Changes|Gate'
	CGO_ENABLED=1 go test -race -timeout 30m ./internal/engine/mariadb -rounds 10 -shared-rounds 2 -run Gate
	CGO_ENABLED=1 go test -race -timeout 30m ./internal/engine/redis -rounds 20 -run 'RandomWork$$|Suite$$|Writers|Waiting'

bench: build
	go run ./internal/bench -program bin/hemzo

lint:
	@test -z "$$(gofmt -l .)" || { gofmt -l .; echo "gofmt would change these"; exit 1; }
	go vet ./...
	$(STATICCHECK) ./...
	GOOS=linux GOARCH=arm64 go build -o /dev/null ./cmd/hemzo
	GOOS=darwin GOARCH=arm64 go build -o /dev/null ./cmd/hemzo
	GOOS=darwin GOARCH=arm64 go vet ./...

fuzz:
	go test -run '^$$' -fuzz FuzzSplit -fuzztime 30s ./internal/sqltext
	go test -run '^$$' -fuzz FuzzTable -fuzztime 30s ./internal/source
	go test -run '^$$' -fuzz FuzzRead -fuzztime 30s ./internal/project
	go test -run '^$$' -fuzz FuzzRecord -fuzztime 30s ./internal/engine/postgres/wal
	go test -run '^$$' -fuzz FuzzRows -fuzztime 30s ./internal/engine/postgres/restore
	go test -run '^$$' -fuzz FuzzGate -fuzztime 30s ./internal/engine/postgres
	go test -run '^$$' -fuzz FuzzGate -fuzztime 30s ./internal/engine/mariadb
	go test -run '^$$' -fuzz FuzzRead -fuzztime 30s ./internal/engine/redis/resp
	go test -run '^$$' -fuzz FuzzRead -fuzztime 30s ./internal/engine/redis/rdb

soak:
	go test -run RandomWork -timeout 60m ./internal/engine/sqlite -rounds 20000
	go test -run 'RandomWork|OtherMajors' -timeout 120m ./internal/engine/postgres -rounds 500 -major-rounds 500
	go test -run 'RandomWork|GateEquals' -timeout 120m ./internal/engine/mariadb -rounds 500 -shared-rounds 500
	go test -run RandomWork -timeout 60m ./internal/engine/redis -rounds 3000 -shared-rounds 500
	go test -run 'Killed' -timeout 60m ./internal/cli -kills 200
	go test -run 'Beside' -timeout 60m ./internal/cli -beside 150
	go test -run 'Runners' -timeout 60m ./internal/cli -runners 50

screenshots: build
	./scripts/screenshots

clean:
	rm -rf bin dist
