#!/bin/sh
# --- moorwatch
# name: Restart a service
# description: Restarts a service and waits until it has been active for five seconds.
# interpreter: sh
# systems: [linux]
# parameters:
# - {name: SERVICE, title: Service, kind: text, required: true}
# seconds: 120
# ---
set -u
systemctl restart -- "$SERVICE" || { systemctl status --no-pager --lines 10 -- "$SERVICE"; exit 1; }
sleep 5
systemctl is-active -- "$SERVICE"
