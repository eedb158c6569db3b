#!/bin/sh
set -e
if [ "$1" = remove ] && [ -d /run/systemd/system ]; then
	systemctl disable --now innergate.service >/dev/null 2>&1 || true
fi
