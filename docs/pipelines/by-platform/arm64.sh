#!/usr/bin/env bash
# The same image, built on an ARM machine.
set -euo pipefail

./build.sh timetable-arm64
hod stage timetable --from out/timetable-arm64.tar --platform linux/arm64
