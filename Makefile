# Everything a fresh Debian machine with Go needs is installed by name.
PROGRAMS = mariadbd:mariadb-server-core my_print_defaults:mariadb-client-core ssh:openssh-client git:git gcc:gcc node:nodejs npm:npm
# What tests need besides: a browser, other makers' servers to talk to, a cluster.
TESTED = patch:patch /usr/lib/chromium/chromium-headless-shell:chromium-headless-shell sshd:openssh-server vsftpd:vsftpd in.tftpd:tftpd-hpa telnetd:inetutils-telnetd curl:curl openssl:openssl exim4:exim4-daemon-light age:age \
  wsrep_sst_mariabackup:mariadb-server /usr/lib/galera/libgalera_smm.so:galera-4 mariadb-backup:mariadb-backup
CONSOLE = $(shell find console/src console/public -type f ! -name schema.ts) console/index.html console/vite.config.ts console/tsconfig.json console/package.json internal/api/openapi.yaml
export PATH := $(PATH):/usr/sbin
export DEBIAN_FRONTEND = noninteractive
# Programs that need no library of the machine they run on.
export CGO_ENABLED = 0
# The API speaks JSON only: without this the web framework brings another encoding, ready at each start.
export GOFLAGS = -tags=nomsgpack

.PHONY: demo test test-race test-matrix build bench check check-console needs needs-test fuzz

build: needs internal/api/openapi.yaml internal/dialect/schema.json console/dist/index.html
	go build -o bin/ ./cmd/...

# What derives from other sources: the API's description, from the operations and the
# types of package client (the console's types derive from that); and the schema and
# the reference of the dialect language, from its own types.
internal/api/openapi.yaml internal/dialect/schema.json: $(wildcard internal/gen/*.go internal/*/kinds.go) $(wildcard client/*.go) internal/api/operations.go internal/api/notification.go internal/core/telling.go internal/api/describe.go internal/core/nouns.go internal/visit/pull.go $(wildcard internal/history/*.go internal/cli/*.go) internal/routine/service.go internal/read/driftjob.go internal/dialect/file.go docs/dialects.md
	go run ./internal/gen
	touch internal/api/openapi.yaml internal/dialect/schema.json

# The console, built and left where the program embeds it.
console/dist/index.html: $(CONSOLE) console/node_modules/.kept
	rm -rf console/dist/assets
	cd console && npm run --silent build
	touch $@

console/node_modules/.kept: console/package-lock.json
	cd console && npm install --no-save --no-audit --no-fund --loglevel=error
	touch $@

demo: build
	bin/magpie demo --listen $(or $(LISTEN),127.0.0.1:8470) --data $(or $(DATA),demo) --routers $(or $(ROUTERS),12)

# So many tests at once: what is temporary lies in memory where there is room for
# it (internal/scratch), and waits for a disk otherwise.
ATONCE = $(shell df -Pk /dev/shm 2>/dev/null | awk 'END { print $$4 >= 6291456 ? 6 : 4 }')

test: needs-test build check check-console
	@out=$$(mktemp); trap 'rm -f '$$out EXIT; began=$$(date +%s); \
	go test -timeout 15m $$(go list ./... | grep -v /e2e) >$$out 2>&1 & others=$$!; \
	go test -count=1 -timeout 18m -parallel $(ATONCE) ./e2e; e2e=$$?; \
	wait $$others; status=$$?; cat $$out; \
	echo "the tests took $$(($$(date +%s) - began)) s on $$(nproc) cores"; [ $$e2e = 0 ] && [ $$status = 0 ]

# The same with the race detector, in the services under test too. It takes twice as long,
# and half of that to build everything once more. The core, the dialects, the push machine and
# the benchmarks have no goroutines.
test-race: needs-test build
	CGO_ENABLED=1 go test -race -timeout 20m $$(go list ./... | grep -v '/e2e\|/internal/core/\|/internal/dialect$$\|/internal/push$$\|/internal/bench$$')
	CGO_ENABLED=1 MAGPIE_RACE=1 go test -count=1 -timeout 40m -parallel $(ATONCE) ./e2e

# Every family, by every method, with every fault of its simulator; a whole minute of change
# notices; weeks of hourly pulls of 200 devices; and a thousand seeds of faults at the database.
test-matrix: needs-test build
	MAGPIE_MATRIX=all go test ./internal/core/change -count=1 -timeout 20m
	MAGPIE_MATRIX=all go test ./internal/yard -count=1 -timeout 60m
	MAGPIE_MATRIX=all go test ./internal/history -run TestWeeks -count=1 -timeout 60m
	CGO_ENABLED=1 MAGPIE_RACE=1 MAGPIE_MATRIX=all go test ./e2e -count=1 -timeout 40m -run 'TestMatrix|TestNoticeStorm'

# The console's files as its formatter has them, no line over 140 characters; and the
# API's description before a strict linter and two makers of clients.
check-console: console/node_modules/.kept
	cd console && npm run --silent check:format
	@awk 'length > 140 { print FILENAME ":" FNR ": " length " characters"; bad = 1 } END { exit bad }' $$(find console/src -name '*.vue' -o -name '*.ts' ! -name schema.ts -o -name '*.css')
	cd console && REDOCLY_TELEMETRY=off REDOCLY_SUPPRESS_UPDATE_NOTICE=true npm run --silent check:api

check:
	@test -z "$$(gofmt -l .)" || { echo "not formatted:"; gofmt -l .; exit 1; }
	go vet ./...
	go tool staticcheck ./...
	go run ./internal/gen -check
	go test ./internal

bench: needs-test build
	go run ./internal/bench $(ONLY)

# Each fuzz target for a while; FUZZTIME=10m for longer.
fuzz:
	@for p in $$(grep -rl --include=*_test.go '^func Fuzz' . | xargs -n1 dirname | sort -u); do \
	  for f in $$(grep -h '^func Fuzz' $$p/*_test.go | sed 's/func \(Fuzz[A-Za-z]*\).*/\1/'); do \
	    echo "$$p $$f"; go test $$p -run '^$$' -fuzz "^$$f$$" -fuzztime $(or $(FUZZTIME),20s) || exit 1; done; done

needs:
	@$(call install,$(PROGRAMS))
	@command -v go >/dev/null || { echo "Go 1.26 or newer is needed and not on the PATH"; exit 1; }

needs-test:
	@$(call install,$(PROGRAMS) $(TESTED))

install = missing=; for p in $(1); do command -v $${p%%:*} >/dev/null || [ -e $${p%%:*} ] || missing="$$missing $${p\#*:}"; done; \
	if [ -n "$$missing" ]; then echo "installing$$missing"; apt-get update -qq && apt-get install -y -qq --no-install-recommends $$missing; fi
