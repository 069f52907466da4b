#!/bin/sh
# Runs when the package has been installed or brought up to date. It starts nothing that was not started.
set -e
systemd-sysusers bagaglio.conf >/dev/null 2>&1 || getent passwd bagaglio >/dev/null ||
	useradd --system --user-group --home-dir /var/lib/bagaglio --shell /usr/sbin/nologin bagaglio
if [ -d /run/systemd/system ]; then
	systemctl daemon-reload
	systemctl try-restart bagaglio.service
fi
echo "Start the service with: systemctl enable --now bagaglio"
