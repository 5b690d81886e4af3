#!/bin/sh
# --- moorwatch
# name: A command line
# description: Runs one line by the shell of the device.
# interpreter: sh
# systems: [linux, macos]
# parameters:
# - {name: LINE, title: Line, kind: text, required: true}
# seconds: 600
# ---
eval "$LINE"
