#!/usr/bin/env bash
# Every platform is built on its own machine. The jobs share a ledger, and nothing else: no build
# output is handed from job to job.
set -euo pipefail

./build.sh timetable-amd64
hod stage timetable --from out/timetable-amd64 --platform linux/amd64
