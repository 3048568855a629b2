# make alone lists what there is.
.DEFAULT_GOAL := help
.PHONY: help demo test build console bench edits flood loops killed timing trail-10m crash screenshots properties fuzz clean

help: ## list the targets
	@awk -F ':.*## ' '/^[a-z]+:.*## / { printf "  make %-12s %s\n", $$1, $$2 }' $(MAKEFILE_LIST)

demo: build ## install what is missing, build, and start a chest with made-up data
	@bin/tansu demo

test: ## install what is missing, and run every check and test
	@scripts/install.sh test
	@scripts/test.sh

build: console ## build bin/tansu, one static program with the console inside, and the helper that talks to hardware
	@CGO_ENABLED=0 go build -trimpath -ldflags "-s -w" -o bin/tansu ./cmd/tansu
	@go build -trimpath -ldflags "-s -w" -o bin/tansu-hardware ./cmd/tansu-hardware

console: internal/web/dist/index.html

# The console is built anew when anything it is made of has changed.
CONSOLE := $(shell find console -path console/node_modules -prune -o -type f -print 2>/dev/null) internal/httpapi/openapi.yaml
internal/web/dist/index.html: $(CONSOLE)
	@scripts/install.sh build
	@cd console && npm run --silent build

bench: build ## measure an audited read against a bare handler, in one run
	@scripts/install.sh bench
	@go build -o build/bench ./scripts/bench && build/bench

crash: ## kill the service under load two hundred times, and compare what came out of it with its trail
	@TANSU_CRASH_ROUNDS=200 go test ./internal/cli -run TestKilledUnderLoadNothingIsLost -v -timeout 30m

flood: build ## refuse a million reads of one app while another one reads, and count what the trail has of it
	@scripts/install.sh bench
	@go build -o build/bench ./scripts/bench && build/bench -only flood

timing: ## try to tell by time which items exist in a drawer in which one has nothing; it fails when that can be told
	@go build -o build/bench ./scripts/bench && build/bench -only timing

trail-10m: ## measure queries of a trail of ten million entries; the file is built once, in build/, and takes 1.3 GB
	@go build -o build/bench ./scripts/bench && build/bench -only trail -entries 10000000

screenshots: build ## take the pictures in docs/screenshots anew
	@scripts/install.sh screenshots
	@go run ./scripts/screenshots docs/screenshots
	@go run ./scripts/screenshots -dark -all -only authority build && mv build/authority.png docs/screenshots/authority-night.png
	@scripts/screenshots/terminal.sh docs/screenshots

edits: ## edit the file of a stopped chest ten thousand times, of a running one a thousand times, and each page
	@TANSU_EDITS=10000 go test ./internal/service -run TestEditsOf -v -timeout 90m
	@TANSU_PAGES=1000 go test ./internal/httpapi -run TestAPageOfNoise -v -timeout 30m

loops: ## end sessions, tokens and the last ways to give access two hundred times beside loops that ask for more
	@TANSU_ROUNDS=200 go test ./internal/httpapi -run "TestNothingOutlives|TestSomebodyCanAlways" -v -timeout 60m

killed: ## kill a process, and cut the power, two hundred times each while what opens the chest changes, and while it is upgraded
	@TANSU_KILLS=200 TANSU_POWER_CUTS=200 go test ./internal/service -run 'TestKilledWhile|TestPowerIsCut' -v -timeout 60m
	@TANSU_KILLS=200 go test ./internal/server -run 'TestKilledWhile' -v -timeout 60m

properties: ## try four million random steps of items instead of eighty thousand
	@TANSU_HISTORIES=100000 go test -run TestRandomHistories -timeout 60m ./internal/core/lifecycle

fuzz: ## fuzz the parsers for a minute each
	@go test -fuzz FuzzParse -fuzztime 60s ./internal/core/reference
	@go test -fuzz FuzzEncodingReadsBack -fuzztime 60s ./internal/core/trail
	@go test -fuzz FuzzParseHours -fuzztime 60s ./internal/core/access
	@go test -fuzz FuzzParseScope -fuzztime 60s ./internal/core/access
	@go test -fuzz FuzzParsePolicy -fuzztime 60s ./internal/core/policytext
	@go test -fuzz FuzzRead -fuzztime 60s ./internal/core/importfile
	@go test -fuzz FuzzDotenvLineReadsBack -fuzztime 60s ./internal/core/importfile
	@go test -fuzz FuzzParseSpan -fuzztime 60s ./internal/core/lifecycle
	@go test -fuzz FuzzParse -fuzztime 60s ./internal/core/search
	@go test -fuzz FuzzDecodeIsStrict -fuzztime 60s ./internal/httpapi
	@go test -fuzz FuzzMaskingIsAsIfEachPlaceWereLookedAt -fuzztime 60s ./internal/core/leak
	@go test -fuzz FuzzRead -fuzztime 60s ./internal/core/manifest

clean: ## remove what was built
	@rm -rf bin build console/node_modules internal/web/dist && git checkout -q -- internal/web/dist 2>/dev/null || true
