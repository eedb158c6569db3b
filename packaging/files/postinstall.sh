#!/bin/sh
set -e
[ "$1" = configure ] || exit 0
mkdir -p /var/lib/innergate
if ! getent passwd innergate >/dev/null; then
	adduser --system --group --home /var/lib/innergate --no-create-home --gecos "Inner Gate" innergate >/dev/null
fi
install -d -m 0700 -o innergate -g innergate /var/lib/innergate
chown root:innergate /etc/innergate/settings.yaml
chmod 0640 /etc/innergate/settings.yaml
if [ -d /run/systemd/system ]; then
	systemctl daemon-reload
	if [ -n "$2" ]; then
		systemctl try-restart innergate.service
	fi
fi
if [ -z "$2" ]; then
	echo "Inner Gate: set public-url in /etc/innergate/settings.yaml, then run: systemctl enable --now innergate"
fi
