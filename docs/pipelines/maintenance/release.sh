#!/usr/bin/env bash
# A fix for an older line of versions, from its own branch: it takes the next patch of that line, and
# moves the tags of that line alone. 2.5.0 stays what `latest` and `2` mean.
set -euo pipefail

./build.sh
hod publish --next patch --line 2.4
hod promote uat --version 2.4.1
hod promote prod --version 2.4.1
