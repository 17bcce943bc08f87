#!/bin/sh
# Builds the programs that lanternfield carries for hosts, for the architectures named, into internal/carried/files: each compressed, and a list
# of what they are. What has not changed is left as it is.
set -eu
cd "$(dirname "$0")/.."
into=internal/carried/files
work=$(mktemp -d)
trap 'rm -rf "$work"' EXIT
: >"$work/list"
for arch in "$@"; do
	for program in agent guard; do
		name=$program-linux-$arch
		CGO_ENABLED=0 GOOS=linux GOARCH=$arch ${GO:-go} build -buildvcs=false -ldflags '-s -w' -o "$work/$name" ./cmd/lanternfield-$program
		line="$(sha256sum <"$work/$name" | cut -d' ' -f1) $(wc -c <"$work/$name") $name"
		echo "$line" >>"$work/list"
		[ -e $into/$name.gz ] && grep -qxF "$line" $into/list 2>/dev/null || gzip -9nc "$work/$name" >$into/$name.gz
	done
done
for old in $into/*.gz; do
	grep -q " $(basename "$old" .gz)\$" "$work/list" || rm -f "$old"
done
cmp -s "$work/list" $into/list || cp "$work/list" $into/list
