#!/bin/bash
# Tries the package on a copy of this machine's files, which is thrown away: install, start, upgrade, remove, purge. Says what it did.
set -euo pipefail
cd "$(dirname "$0")/.."
[ "$(id -u)" = 0 ] || { echo "package-check must be root: it installs on a copy of this machine's files"; exit 1; }
arch=$(dpkg --print-architecture)
say() { echo "ok    $*"; }

make -s package VERSION=0.1.0
one=bin/package/innergate_0.1.0_$arch.deb
sums=$(cd bin/package && sha256sum ./*.deb ./*.oci.tar ./*.cdx.json)
keep=$(mktemp -d)
trap 'rm -rf "$keep"' EXIT
cp "$one" "$keep/"
make -s package VERSION=0.1.0 >/dev/null
[ "$sums" = "$(cd bin/package && sha256sum ./*.deb ./*.oci.tar ./*.cdx.json)" ] || { echo "two builds differ"; exit 1; }
say "package, image and bill of materials are the same octets when built twice"
make -s package VERSION=0.1.1 >/dev/null
cp bin/package/innergate*_0.1.1_"$arch".deb "$keep/"

systemd-analyze verify --man=no packaging/files/innergate.service 2>&1 | grep -v "Command /usr/bin/innergate is not executable" || true
level=$(systemd-analyze security --offline=true --no-pager packaging/files/innergate.service 2>/dev/null | sed -n 's/.*exposure level for innergate.service: \([0-9.]*\).*/\1/p')
awk -v l="$level" 'BEGIN { exit !(l != "" && l < 2.0) }' || { echo "the service's exposure is $level; 2.0 is the bound"; exit 1; }
say "the service's exposure is $level"

# The image's one layer, in an empty folder: nothing but what is in it can be used.
tar=bin/package/innergate-0.1.1.oci.tar
mkdir "$keep/oci" "$keep/empty"
tar -xf "$tar" -C "$keep/oci"
for blob in "$keep"/oci/blobs/sha256/*; do
	if gzip -t "$blob" 2>/dev/null; then tar -xzf "$blob" -C "$keep/empty"; fi
done
[ "$(chroot "$keep/empty" /usr/bin/innergate --version)" = "Inner Gate 0.1.1" ]
INNERGATE_DATA=/var/lib/innergate INNERGATE_LISTEN=127.0.0.1:8432 chroot --userspec=65532:65532 "$keep/empty" /usr/bin/innergate serve \
	>"$keep/log" 2>&1 &
served=$!
for _ in $(seq 100); do curl -fsS http://127.0.0.1:8432/readyz >/dev/null 2>&1 && break || sleep 0.1; done
curl -fsS http://127.0.0.1:8432/readyz >/dev/null || { cat "$keep/log"; exit 1; }
kill "$served" && wait "$served" || true
say "the image serves from its $(($(stat -c %s "$tar") >> 20)) MiB alone"

export KEEP=$keep ARCH=$arch
exec unshare -m bash -euo pipefail <<'INSIDE'
say() { echo "ok    $*"; }
space=$(mktemp -d)
trap "pkill -KILL -x innergate || true" EXIT
mount -t tmpfs none "$space"
mkdir "$space/upper" "$space/work" "$space/root"
mount -t overlay none -o lowerdir=/,upperdir="$space/upper",workdir="$space/work" "$space/root"
mount -t proc none "$space/root/proc"
mount --bind /dev "$space/root/dev"
cp "$KEEP"/*.deb "$space/root/tmp/"
inside() { chroot "$space/root" "$@"; }
# No service manager runs in the copy.
rm -rf "$space/root/run/systemd"

inside dpkg -i "/tmp/innergate_0.1.0_$ARCH.deb" >/dev/null
inside getent passwd innergate >/dev/null
[ "$(inside stat -c '%a %U' /var/lib/innergate)" = "700 innergate" ]
[ "$(inside stat -c '%a %U %G' /etc/innergate/settings.yaml)" = "640 root innergate" ]
[ "$(inside innergate --version)" = "Inner Gate 0.1.0" ]
inside test -s /usr/share/man/man1/innergate-serve.1.gz
inside bash -c '. /usr/share/bash-completion/completions/innergate && complete -p innergate' >/dev/null
say "installed: user, data folder, settings, manual pages, completion"

run() {
	inside setpriv --reuid innergate --regid innergate --clear-groups env INNERGATE_SETTINGS=/etc/innergate/settings.yaml "$@"
}
serve() {
	run innergate serve >"$space/log" 2>&1 &
	for _ in $(seq 100); do
		curl -fsS http://127.0.0.1:8431/readyz 2>/dev/null && return
		sleep 0.1
	done
	cat "$space/log"
	exit 1
}
halt() { pkill -TERM -x innergate; while pgrep -x innergate >/dev/null; do sleep 0.1; done; }
sed -i 's|^# public-url:.*|public-url: https://gate.saltmere.example|; s|127.0.0.1:842|127.0.0.1:843|' "$space/root/etc/innergate/settings.yaml"
serve >/dev/null
grep -q "become the first administrator" "$space/log"
halt
say "serves as its own user with the settings that were edited"
key=$(inside sha256sum /var/lib/innergate/master.key)

inside dpkg -i "/tmp/innergate_0.1.1_$ARCH.deb" >/dev/null
[ "$(inside innergate --version)" = "Inner Gate 0.1.1" ]
grep -q "^public-url: https://gate.saltmere.example" "$space/root/etc/innergate/settings.yaml"
[ "$key" = "$(inside sha256sum /var/lib/innergate/master.key)" ]
serve >/dev/null
halt
run innergate backup /var/lib/innergate/copy.db --data /var/lib/innergate >/dev/null
say "upgraded: settings and records are as they were, and the service starts"

inside dpkg -r innergate >/dev/null
inside test ! -e /usr/bin/innergate
inside test -e /etc/innergate/settings.yaml
inside test -e /var/lib/innergate/innergate.db
say "removed: settings and records stay"
inside dpkg -P innergate >"$space/log" 2>&1
inside test ! -e /etc/innergate
inside test -e /var/lib/innergate/innergate.db
grep -q "delete it by hand" "$space/log"
say "purged: settings are gone, records stay and are named"

# From one machine to three nodes, a copy and back, as docs/handbook/operation.md tells it.
inside dpkg -i "/tmp/innergate-nodes_0.1.1_$ARCH.deb" >/dev/null
sed -i 's|^# public-url:.*|public-url: http://127.0.0.1:8430|; s|127.0.0.1:842|127.0.0.1:843|' "$space/root/etc/innergate/settings.yaml"
echo "eleven herons by the quay" | run innergate set-up --name Fenna --data /var/lib/innergate >/dev/null
run innergate node begin --address 127.0.0.1:8444 --data /var/lib/innergate >/dev/null
serve >/dev/null
fenna() { inside env HOME=/root INNERGATE_URL=http://127.0.0.1:8430 innergate "$@"; }
echo "eleven herons by the quay" | inside env HOME=/root innergate login http://127.0.0.1:8430 --name Fenna >/dev/null
for n in 2 3; do
	inside install -d -m 700 -o innergate /var/lib/innergate-$n
	fenna node invite 2>/dev/null | run innergate node join --address "127.0.0.1:$((8442 + 2 * n))" --data /var/lib/innergate-$n >/dev/null
	inside install -m 600 -o innergate /var/lib/innergate/master.key /var/lib/innergate-$n/master.key
	run innergate serve --data /var/lib/innergate-$n --listen "127.0.0.1:843$n" --operations-listen "127.0.0.1:845$n" >"$space/log-$n" 2>&1 &
	for _ in $(seq 100); do curl -fsS "http://127.0.0.1:845$n/readyz" >/dev/null 2>&1 && break || sleep 0.1; done
done
for _ in $(seq 100); do [ "$(fenna node list | grep -c voter)" = 3 ] && break || sleep 0.2; done
[ "$(fenna node list | grep -c voter)" = 3 ] || { fenna node list; exit 1; }
fenna backup /root/copy.db --from-service >/dev/null
inside innergate backup verify /root/copy.db >/dev/null
say "three nodes, from the records of one, and a copy of what they keep"
halt
inside install -d -m 700 -o innergate /var/lib/back
inside innergate restore /root/copy.db --data /var/lib/back >/dev/null
inside chown -R innergate /var/lib/back
inside install -m 600 -o innergate /var/lib/innergate/master.key /var/lib/back/master.key
run innergate serve --data /var/lib/back >"$space/log" 2>&1 &
for _ in $(seq 100); do curl -fsS http://127.0.0.1:8431/readyz >/dev/null 2>&1 && break || sleep 0.1; done
fenna app list >/dev/null
say "restored elsewhere: whoever was signed in still is"
halt
INSIDE
