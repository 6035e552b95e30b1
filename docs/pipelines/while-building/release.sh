#!/usr/bin/env bash
# Content goes up while the build still runs; when the last output is there, only tags are left to write.
set -euo pipefail

# Build in the background, and follow it. The build ends by writing its commit into a file.
mkdir -p out
(
  if ./build.sh; then end=succeeded; else end=failed; fi
  git rev-parse HEAD > "out/build-$end"
) &
hod stage --follow out --wait 30m

# Everything is there. After a failed build this is refused, and nothing is tagged.
hod publish --next minor
