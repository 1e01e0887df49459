# `make help` lists the commands. Each sets up what it needs on a fresh Debian
# machine that has Go and make.

export GOFLAGS := -buildvcs=false
TOOLS := $(CURDIR)/.tools
STATICCHECK := honnef.co/go/tools/cmd/staticcheck@v0.8.2
GOTESTSUM := gotest.tools/gotestsum@v1.13.0

FUZZ_TIME ?= 60s
MONKEY_TIME ?= 2m
DRAWS ?= 20000
KILLS ?= 34

.DEFAULT_GOAL := help
.PHONY: help build man demo test monkey race hunt lint interop fuzz mutate cover draws kills bench screenshots rooms

help: ## list the commands
	@grep -hE '^[a-z]+:.*##' $(MAKEFILE_LIST) | sed 's/:.*##/\t/' | expand -t 14

build: ## build bin/lumtra
	@go build -ldflags "-X lumtra/cli.Version=$$(git describe --always --dirty 2>/dev/null)" -o bin/lumtra ./cmd/lumtra

man: build ## write a manual page for each command into man/
	@bin/lumtra man man

demo: build ## open Lumtra on the made-up Saltmarsh Sound Archive
	@bin/lumtra demo --dir demo-world

# Many tests mostly wait, for windows and processes: more of them run at a time than there are cores. The packages
# that take longest begin first. Vet is in lint.
SUITE := -vet=off -timeout 60m -p 4 -parallel 8

test: tools-tests ## run all tests; with lint and race it is the gate, .ci/run
	@tools/need tmux pdftotext:poppler-utils
	@tools/suite test $(SUITE) -- ./cmd/lumtra ./core/transfer ./tui/frame ./service/... ./core/plan ./...

# In these, goroutines share what they work on.
SHARING := ./client ./core/arrive ./core/catalog ./core/handle ./core/inorder ./core/ledger ./core/level ./core/listing \
	./core/notify ./core/pace ./core/pack ./core/place/... ./core/probe ./core/room ./core/starts ./core/transfer \
	./service/... ./standin ./tui/...

race: tools-tests ## run the packages whose goroutines share state under the race detector
	@tools/need gcc
	@tools/suite race -race $(SUITE) -- $(SHARING)

.PHONY: tools-tests
tools-tests:
	@GOBIN=$(TOOLS) go install $(GOTESTSUM)

lint: ## check formatting, vet, staticcheck, and that tests are patient
	@test -z "$$(gofmt -l .)" || { echo "not gofmt-ed:"; gofmt -l .; exit 1; }
	@tools/heavy
	go run ./tools/patient
	go vet ./...
	GOBIN=$(TOOLS) go install $(STATICCHECK)
	$(TOOLS)/staticcheck ./...

hunt: ## look for faults for two hours: all below and more, a sample of each (FROM=step goes on, ONLY=step)
	@tools/hunt $(TOOLS)

interop: ## run the conformance suite and runs on four real servers
	@tools/interop $(TOOLS)

monkey: ## press random keys in real windows for MONKEY_TIME (2m) each, with the world changing beside them
	@tools/need tmux
	LUMTRA_MONKEY=$(MONKEY_TIME) go test ./cmd/lumtra -count=1 -timeout 30m -run TestMonkey

fuzz: ## feed every reader made-up input, FUZZ_TIME (60s) each
	@tools/fuzz $(FUZZ_TIME) $(FUZZ)

mutate: ## put small faults into what decides, and see that tests notice (an hour)
	go run ./tools/mutate

cover: ## print how much of each package the tests run
	@tools/need tmux pdftotext:poppler-utils
	@tools/cover

draws: ## run random jobs, and histories of jobs, on DRAWS (20,000: hours) drawn stores, with faults
	LUMTRA_DRAWS=$(DRAWS) go test ./core/transfer ./service -count=1 -timeout 1000m -parallel 48 -v -run 'TestEveryStore|TestEveryHistory'

kills: ## kill the built program at KILLS (34) drawn moments: on drawn stores, in packs, at starts
	@tools/need tmux
	LUMTRA_KILLS=$(KILLS) go test ./cmd/lumtra -count=1 -timeout 150m -run 'TestKilled|OutliveKills'

bench: ## measure against a bare floor and print the ratios; AGAINST=PROGRAM or REVISION: against another build
	@go run ./bench $(if $(AGAINST),against $(AGAINST))

screenshots: build ## remake docs/screenshots from the demo
	@tools/need tmux Xvfb:xvfb xterm import:imagemagick fc-list:fontconfig
	@tools/screenshots bin/lumtra docs/screenshots

rooms: ## draw docs/rooms.svg anew
	go run ./tools/rooms > docs/rooms.svg
