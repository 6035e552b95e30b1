#!/usr/bin/env bash
# The images that one machine builds for all platforms.
set -euo pipefail

./build.sh boarding-gate
./build.sh tide-watch
hod stage boarding-gate tide-watch
