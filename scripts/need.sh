#!/bin/sh
# Installs the Debian packages that provide the commands named as COMMAND=PACKAGE, where they are missing. Quiet when
# there is nothing to do. Services are kept from starting by themselves.
set -eu
missing=
for pair in "$@"; do
	command=${pair%%=*}
	PATH=$PATH:/usr/sbin:/sbin command -v "$command" >/dev/null 2>&1 || [ -e "$command" ] || missing="$missing ${pair#*=}"
done
[ -n "$missing" ] || exit 0
as=
if [ "$(id -u)" != 0 ]; then
	as=sudo
	command -v sudo >/dev/null || { echo "missing:$missing. Run as root: apt-get install$missing" >&2; exit 1; }
fi
echo "installing$missing" >&2
policy=/usr/sbin/policy-rc.d
if [ ! -e $policy ]; then
	printf '#!/bin/sh\nexit 101\n' | $as tee $policy >/dev/null
	$as chmod +x $policy
	trap '$as rm -f $policy' EXIT
fi
log=$(mktemp)
if ! { $as apt-get update -qq && $as env DEBIAN_FRONTEND=noninteractive apt-get install -y -qq --no-install-recommends $missing; } >"$log" 2>&1; then
	cat "$log" >&2
	exit 1
fi
rm -f "$log"
