#!/bin/bash
# What somebody would write by hand to do what `lanternfield deploy bench/real.field.yaml` does: three etcd, three NATS, PostgreSQL with a replica and
# HAProxy before it, with the same gates and the same proofs, polled every 20 ms. It prints the pids of what it started, and leaves
# what it wrote in the folder. Usage: real-by-hand.sh DIR NETWORK, e.g. real-by-hand.sh /tmp/x 127.61.1
set -u
dir=$1 net=$2
mkdir -p "$dir"
chmod 755 "$dir"
as= # whom the database runs as: it refuses root
[ "$(id -u)" != 0 ] || as="setpriv --reuid=postgres --regid=postgres --clear-groups"
PATH=$PATH:/usr/sbin:$(ls -d /usr/lib/postgresql/*/bin | tail -n 1)
export PGPASSWORD=by-hand PGCONNECT_TIMEOUT=2 LC_ALL=C.UTF-8
ok() { curl -s -m 0.2 "$1" 2>/dev/null | grep -q "$2"; }
post() { curl -s -m 2 -d "$2" "$1"; }
sql() { psql -X -qAt -h "$1" -p "$2" -U postgres -d "$3" -v ON_ERROR_STOP=1 -c "$4" 2>/dev/null; }
await() { until "$@"; do sleep 0.02; done; }

cluster=
for i in 1 2 3; do cluster=$cluster${cluster:+,}store-$i=http://$net.$i:2380; done
for i in 1 2 3; do
	mkdir -p "$dir/store-$i" "$dir/news-$i"
	etcd --name=store-$i --data-dir="$dir/store-$i/data" --listen-client-urls=http://$net.$i:2379 --advertise-client-urls=http://$net.$i:2379 \
		--listen-peer-urls=http://$net.$i:2380 --initial-advertise-peer-urls=http://$net.$i:2380 --initial-cluster=$cluster \
		--initial-cluster-state=new --heartbeat-interval=100 --election-timeout=1000 --logger=zap >"$dir/store-$i/log" 2>&1 &
	echo $!
	{
		printf 'server_name: news-%s\nlisten: %s:4222\nhttp: %s:8222\nmax_payload: 1MB\ncluster {\n  name: news\n  listen: %s:6222\n  routes: [' $i $net.$i $net.$i $net.$i
		for j in 1 2 3; do [ $i = $j ] || printf '\n    nats-route://%s:6222' $net.$j; done
		printf '\n  ]\n}\n'
	} >"$dir/news-$i/nats.conf"
	nats-server --config "$dir/news-$i/nats.conf" >"$dir/news-$i/log" 2>&1 &
	echo $!
done

books() { # the number of one, and where its database is
	cat >"$dir/books-$1/postgresql.conf" <<-END
		listen_addresses = '$net.$1'
		port = 5432
		unix_socket_directories = ''
		cluster_name = 'books-$1'
		max_connections = 100
		shared_buffers = 128MB
		max_wal_senders = 16
		wal_log_hints = on
		hba_file = '$dir/books-$1/pg_hba.conf'
		ident_file = '$dir/books-$1/db/pg_ident.conf'
		wal_keep_size = 512MB
		hot_standby_feedback = on
		primary_conninfo = 'host=$net.1,$net.2 port=5432,5432 user=postgres application_name=books-$1 target_session_attrs=primary'
	END
	printf 'host all all 127.0.0.0/8 scram-sha-256\nhost replication postgres 127.0.0.0/8 scram-sha-256\n' >"$dir/books-$1/pg_hba.conf"
	$as postgres -D "$dir/books-$1/db" -c config_file="$dir/books-$1/postgresql.conf" >"$dir/books-$1/log" 2>&1 &
	echo $!
}
for i in 1 2; do
	mkdir -p "$dir/books-$i"
	printf by-hand >"$dir/books-$i/password"
	[ -z "$as" ] || chown -R postgres: "$dir/books-$i"
done
(cd "$dir" && umask 077 && $as initdb -D "$dir/books-1/db" -U postgres --auth=scram-sha-256 --pwfile="$dir/books-1/password" --data-checksums --encoding=UTF8 --locale=C.UTF-8 >/dev/null)
books 1
await sql $net.1 5432 postgres "select 1" >/dev/null
sql $net.1 5432 postgres "create database app"
(cd "$dir" && umask 077 && $as pg_basebackup -D "$dir/books-2/db" -h $net.1 -p 5432 -U postgres -X stream -c fast --no-sync)
$as touch "$dir/books-2/db/standby.signal"
books 2
streams() { [ "$(sql $net.2 5432 postgres "select status from pg_stat_wal_receiver")" = streaming ]; }
await streams
# the gate: what is written is read
sql $net.1 5432 app "create table proof as select 'it' as once"
read_there() { [ "$(sql $net.2 5432 app "select once from proof")" = it ]; }
await read_there
sql $net.1 5432 app "drop table proof"

mkdir -p "$dir/door"
cat >"$dir/door/haproxy.cfg" <<END
defaults
  mode tcp
  timeout connect 2s
  timeout client 1h
  timeout server 1h
  default-server inter 400ms fastinter 100ms downinter 400ms fall 3 rise 1
listen write
  bind $net.1:7000
  server books-1 $net.1:5432 check
listen read
  bind $net.1:7001
  server books-2 $net.2:5432 check
END
haproxy -c -q -f "$dir/door/haproxy.cfg"
haproxy -db -f "$dir/door/haproxy.cfg" >"$dir/door/log" 2>&1 &
echo $!
for i in 1 2 3; do
	await ok http://$net.$i:2379/health '"health":"true"'
	await ok http://$net.$i:8222/routez '"num_routes": [1-9]'
done
# the proofs
key=$(printf by-hand | base64)
await post http://$net.1:2379/v3/kv/put "{\"key\":\"$key\",\"value\":\"$key\"}" >/dev/null
there() { post http://$net.$1:2379/v3/kv/range "{\"key\":\"$key\"}" | grep -q "$key"; }
for i in 2 3; do await there $i; done
leader() { post http://$net.$1:2379/v3/maintenance/status '{}' | grep -o '"leader":"[0-9]*"'; }
same() { [ "$(leader 1)" = "$(leader 2)" ] && [ "$(leader 2)" = "$(leader 3)" ]; }
await same
through() { sql $net.1 7000 app "create table if not exists through as select 1 as one" && [ "$(sql $net.1 7001 app "select one from through")" = 1 ]; }
await through
sql $net.1 7000 app "drop table through"
