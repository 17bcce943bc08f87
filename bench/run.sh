#!/bin/sh
# Prints every figure: whole processes first, then the Go benchmarks.
set -eu
cd "$(dirname "$0")/.."
go run ./bench "$@"
if [ $# -eq 0 ]; then
	go run ./bench/fleet # needs 4 GB
	go test -run '^$' -bench . -benchmem ./internal/core/... ./internal/eventlog/... ./internal/tui/... ./internal/fieldfile | grep '^Benchmark'
fi
