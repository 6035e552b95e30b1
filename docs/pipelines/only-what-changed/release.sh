#!/usr/bin/env bash
# A repository of several images: only those are built and published whose inputs changed since SINCE,
# the commit that was published before. Each image has `inputs:` and `publish-alone: true` in hod.yaml.
set -euo pipefail

# The names of the images that must be built; to start a job for each, add --json.
hod touched --since "$SINCE" > touched
while read -r image; do ./build.sh "$image"; done < touched

# Nothing touched, nothing published.
if [ -s touched ]; then
  xargs hod publish --next patch < touched
fi
