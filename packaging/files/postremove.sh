#!/bin/sh
set -e
if [ -d /run/systemd/system ]; then
	systemctl daemon-reload
fi
[ "$1" = purge ] || exit 0
rm -rf /etc/innergate
# What the gate keeps is not a package's to throw away: with it whoever signs in would be lost.
if [ -d /var/lib/innergate ] && ! rmdir /var/lib/innergate 2>/dev/null; then
	echo "Inner Gate: /var/lib/innergate still holds its records and keys; delete it by hand if nobody needs them any more."
elif getent passwd innergate >/dev/null; then
	deluser --system --quiet innergate >/dev/null 2>&1 || true
fi
