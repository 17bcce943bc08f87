#!/bin/bash
# What somebody would write by hand to scale three etcd members to five and back to three with the same safety: one at a
# time, as a learner first, voting when it has caught up, each step waiting for the one before, polled every 20 ms. It
# waits six seconds before it begins, since etcd refuses changes until all have been connected for five; then it prints
# how many milliseconds the way out and the way in took, and ends what it started.
# Usage: scale-by-hand.sh DIR NETWORK, e.g. scale-by-hand.sh /tmp/x 127.61.1
set -u
dir=$1 net=$2
mkdir -p "$dir"
export ETCDCTL_API=3
pids=()
trap 'kill -9 "${pids[@]}" 2>/dev/null; wait 2>/dev/null' EXIT
healthy() { curl -s -m 0.5 "http://$net.$1:2379/health" 2>/dev/null | grep -q '"health":"true"'; }
ask() { curl -s -m 5 "http://$net.$1:2379/v3/$2" -d "$3"; }
start() { # number, cluster, new or existing
	mkdir -p "$dir/store-$1"
	etcd --name=store-$1 --data-dir="$dir/store-$1/data" --listen-client-urls=http://$net.$1:2379 --advertise-client-urls=http://$net.$1:2379 \
		--listen-peer-urls=http://$net.$1:2380 --initial-advertise-peer-urls=http://$net.$1:2380 --initial-cluster=$2 \
		--initial-cluster-state=$3 --heartbeat-interval=100 --election-timeout=1000 --logger=zap >"$dir/store-$1/log" 2>&1 &
	pids[$1]=$!
}
cluster=
for i in 1 2 3; do cluster=$cluster${cluster:+,}store-$i=http://$net.$i:2380; done
for i in 1 2 3; do start $i $cluster new; done
for i in 1 2 3; do until healthy $i; do sleep 0.02; done; done
sleep 6
began=$(date +%s%N)
declare -A id
for i in 4 5; do
	until added=$(ask 1 cluster/member/add "{\"peerURLs\":[\"http://$net.$i:2380\"],\"isLearner\":true}") && grep -q '"member"' <<<"$added"; do sleep 0.02; done
	id[$i]=$(sed 's/.*"member":{"ID":"\([0-9]*\)".*/\1/' <<<"$added")
	cluster=$cluster,store-$i=http://$net.$i:2380
	start $i $cluster existing
	until healthy $i; do sleep 0.02; done
	until ask 1 cluster/member/promote "{\"ID\":\"${id[$i]}\"}" | grep -q '"members"'; do sleep 0.02; done
	until healthy $i; do sleep 0.02; done
done
out=$(date +%s%N)
for i in 5 4; do
	until ask 1 cluster/member/remove "{\"ID\":\"${id[$i]}\"}" | grep -q '"members"'; do sleep 0.02; done
	kill ${pids[$i]} 2>/dev/null
	wait ${pids[$i]} 2>/dev/null
	rm -rf "$dir/store-$i"
	for j in 1 2 3; do until healthy $j; do sleep 0.02; done; done
done
in=$(date +%s%N)
echo $(((out - began) / 1000000)) $(((in - out) / 1000000))
