#!/bin/bash
# What somebody would write by hand to do what `lanternfield deploy examples/etcd-nats.field.yaml` does: the same programs
# with the same arguments on the same kind of addresses, the same gates, polled every 20 ms. It prints the pids of what it
# started. Usage: by-hand.sh DIR NETWORK, e.g. by-hand.sh /tmp/x 127.60.1
set -u
dir=$1 net=$2
mkdir -p "$dir"
ok() { curl -s -m 0.1 "$1" 2>/dev/null | grep -q "$2"; }

cluster=
for i in 1 2 3; do cluster=$cluster${cluster:+,}store-$i=http://$net.$i:2380; done
for i in 1 2 3; do
	mkdir -p "$dir/store-$i"
	etcd --name=store-$i --data-dir="$dir/store-$i/data" --listen-client-urls=http://$net.$i:2379 --advertise-client-urls=http://$net.$i:2379 \
		--listen-peer-urls=http://$net.$i:2380 --initial-advertise-peer-urls=http://$net.$i:2380 --initial-cluster=$cluster \
		--initial-cluster-state=new --heartbeat-interval=100 --election-timeout=1000 --logger=zap >"$dir/store-$i/log" 2>&1 &
	echo $!
done
while :; do # the gate: a quorum of the store
	n=0
	for i in 1 2 3; do ok http://$net.$i:2379/health '"health":"true"' && n=$((n + 1)); done
	[ $n -ge 2 ] && break
	sleep 0.02
done
for i in 1 2 3; do
	mkdir -p "$dir/news-$i"
	{
		printf 'server_name: news-%s\nlisten: %s:4222\nhttp: %s:8222\nmax_payload: 1MB\ncluster {\n  name: news\n  listen: %s:6222\n  routes: [' $i $net.$i $net.$i $net.$i
		for j in 1 2 3; do [ $i = $j ] || printf '\n    nats-route://%s:6222' $net.$j; done
		printf '\n  ]\n}\n'
	} >"$dir/news-$i/nats.conf"
	nats-server --config "$dir/news-$i/nats.conf" >"$dir/news-$i/log" 2>&1 &
	echo $!
done
for i in 1 2 3; do until ok http://$net.$i:8222/routez '"num_routes": [1-9]'; do sleep 0.02; done; done
for i in 1 2 3; do until ok http://$net.$i:2379/health '"health":"true"'; do sleep 0.02; done; done
