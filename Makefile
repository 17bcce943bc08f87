# make test   runs every check and test       make demo         opens the demo field
# make build  builds bin/lanternfield         make screenshots  renews docs/screenshots
# make bench  prints times and memory            make soak         three thousand random histories; kills 300 controllers and agents under changes; power losses at every moment; a slow deploy whose keeper is killed; forty leaders of a database lost; sixty hosts of which seven fail; eight troubles with real systems
GO ?= go
export CGO_ENABLED ?= 0

RUN_NEEDS  = etcd=etcd-server etcdctl=etcd-client nats-server=nats-server
LIFE_NEEDS = redis-sentinel=redis-sentinel mariadbd=mariadb-server /usr/lib/galera/libgalera_smm.so=galera-4 rsync=rsync stunnel=stunnel4 java=default-jre-headless /usr/share/java/zookeeper.jar=zookeeper /usr/lib/rabbitmq/bin/rabbitmq-server=rabbitmq-server python3=python3-minimal
TEST_NEEDS = /usr/sbin/sshd=openssh-server ip=iproute2 nft=nftables $(RUN_NEEDS) $(LIFE_NEEDS) tmux=tmux redis-server=redis-server haproxy=haproxy /usr/lib/postgresql/15/bin/postgres=postgresql-15 prometheus=prometheus curl=curl gcc=gcc /usr/include/stdlib.h=libc6-dev strace=strace
LOOK_NEEDS = Xvfb=xvfb xterm=xterm import=imagemagick xdotool=xdotool /usr/share/fonts/truetype/dejavu/DejaVuSansMono.ttf=fonts-dejavu-core
BENCH_NEEDS = $(RUN_NEEDS) haproxy=haproxy /usr/lib/postgresql/15/bin/postgres=postgresql-15 strace=strace curl=curl tmux=tmux

# What runs on several goroutines, or is used by several: the race detector looks at these.
CONCURRENT = ./internal/control ./internal/floating ./internal/secureshell ./internal/ground/hosts ./internal/inspect ./internal/agent ./internal/leaseguard ./internal/eventlog/... ./internal/core/bounded ./internal/core/render ./internal/core/resolve ./internal/core/state ./internal/core/loop ./internal/proving ./internal/identity ./internal/demo/...

# The architectures of the hosts for which lanternfield carries agents; the tests build those of this machine alone.
ARCHS ?= amd64 arm64
test: ARCHS = $(shell $(GO) env GOARCH)

.PHONY: build test demo screenshots bench lint soak

build:
	@mkdir -p bin
	@scripts/carry.sh $(ARCHS)
	@$(GO) build -o bin/lanternfield ./cmd/lanternfield

lint:
	@unformatted=$$(gofmt -l $$(git ls-files '*.go')); [ -z "$$unformatted" ] || { echo "gofmt: $$unformatted"; exit 1; }
	@$(GO) vet ./...
	@$(GO) tool staticcheck ./...

test: build lint
	@scripts/need.sh $(TEST_NEEDS)
	$(GO) test -timeout 10m $$($(GO) list ./... | grep -v /e2e$$)
	$(GO) test -parallel 3 -timeout 25m ./e2e # alone: it measures real processes against real deadlines; those that mostly wait go together at the end
	CGO_ENABLED=1 $(GO) test -race -short -timeout 10m $(CONCURRENT)

soak: build
	LANTERNFIELD_SOAK=1 $(GO) test -timeout 30m -run TestRandomHistories ./internal/core/rehearse ./internal/control
	LANTERNFIELD_SOAK=1 $(GO) test -v -timeout 60m -run TestNeverTwo ./internal/core/lease # needs 6 GB
	LANTERNFIELD_SOAK=300 $(GO) test -v -timeout 60m -run 'TestSoak|TestFailover|TestALease|TestAPowerLoss|TestTheLidIsClosed|TestKitsLive|TestPatternsAreRealSystems|TestManyHosts|TestTroublesAreTold' ./e2e

demo: build
	@bin/lanternfield demo

screenshots: build
	@scripts/need.sh $(LOOK_NEEDS)
	@scripts/screenshots.sh docs/screenshots

bench: build
	@scripts/need.sh $(BENCH_NEEDS)
	@bench/run.sh
