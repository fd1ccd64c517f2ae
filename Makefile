# The commands of the README. Each installs what a fresh machine lacks, or says in one line what to do.
.PHONY: demo demo-sharded tour test check race differential build generate truth bench storm upgrade load fuzz screenshots demo-files lint console gallery setup-server setup-engines setup-browser

STATICCHECK = go tool staticcheck

demo: build setup-server
	bin/proudsieve up --demo

# What five hundred rulebooks find where tables lie, in PostgreSQL and ClickHouse on one server and on three, against what they find in a file.
differential: setup-server setup-engines
	go test ./inplace -run 'TestEnginesJudge|TestColumnsOfMany|TestConditions' -rulebooks 500 -timeout 60m -v

# The demo, and beside it a table on three servers that is judged where it lies.
demo-sharded: build setup-server setup-engines
	go run ./demo/sharded/run

tour: build setup-server
	bin/proudsieve tour

# The console's tests go through every page in a browser, one after the other, and may take more than the usual ten minutes.
test: build gallery lint setup-server setup-engines setup-browser
	go test -vet=off -timeout 18m ./... # lint has run go vet

# All that needs neither a database nor a browser, in half a minute on a warm cache.
check: web/node_modules/.package-lock.json web/src/client/schema.d.ts
	@scripts/check

# What runs side by side, under the race detector.
race: build setup-server setup-engines
	go test -race $$(go list ./core/... ./client ./cli ./durable ./engine/... ./postgres ./service/... | grep -v /oracle)

web/src/client/schema.d.ts:
	$(MAKE) console

build: generate console
	go build -o bin/proudsieve ./cmd/proudsieve

# The client's methods are made from the description of the interface, which the handlers give.
generate:
	@go run ./client/generate > client/generate/description.json
	@go tool oapi-codegen -config client/generate/config.yaml client/generate/description.json
	@sed -i '/^\/\/ Package client provides/,/^\/\/$$/d' client/operations.gen.go
	@gofmt -w client/operations.gen.go && rm client/generate/description.json

# The console is built into the program: its description of the interface is made
# from the handlers first, then the pages.
console: web/node_modules/.package-lock.json
	@mkdir -p console/dist
	go run ./cmd/proudsieve openapi > web/src/client/openapi.json
	cd web && npm run --silent schema && npm run --silent build -- --logLevel warn

# The shared components in all their states, which the console's tests walk; no part of the program.
gallery: console
	cd web && npm run --silent gallery -- --logLevel warn

web/node_modules/.package-lock.json: web/package-lock.json
	cd web && npm ci --no-audit --no-fund --silent
	@touch $@

lint: console
	@test -z "$$(gofmt -l $$(git ls-files '*.go'))" || { echo "not formatted: $$(gofmt -l $$(git ls-files '*.go'))"; exit 1; }
	go vet ./...
	$(STATICCHECK) ./...
	cd web && npm run --silent check

# Tables of known truth by a seed that nobody looked at: what is said of them, and which leads tell what was done wrong.
truth:
	TRUTH_TABLES=$(or $(TABLES),2000) TRUTH_SEED=$(or $(SEED),0) go test -count 1 -v -timeout 30m ./core/audit/truth

bench: build
	go run ./bench

# Two hundred kills under work, of two nodes on one directory and of three whose files are in a bucket, and ten minutes of requests while audits run; each is bounded.
storm: build setup-server
	go run ./storm/run
	go run ./storm/run -bucket

# The nodes of an earlier RELEASE give way to those of this one, under work.
upgrade: build setup-server
	scripts/upgrade $(RELEASE)

load: build setup-server
	go run ./bench/load

# Every fuzzer for TIME (2m), those that read files and declarations for LONG (10m).
fuzz:
	scripts/fuzz $(or $(TIME),2m) $(or $(LONG),10m)

screenshots: build setup-server setup-browser
	@scripts/need Xvfb xvfb && scripts/need xterm xterm && scripts/need import imagemagick
	go run ./docs/screenshots/take

demo-files:
	go run ./demo/generate demo

# Databases of others, from which deliveries are taken; only the tests need them.
setup-engines:
	@scripts/need /usr/sbin/clickhouse-server clickhouse-server

setup-server:
	@scripts/need /usr/lib/postgresql/*/bin/initdb postgresql

setup-browser:
	@scripts/need chromium chromium
