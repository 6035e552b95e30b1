#!/usr/bin/env bash
# One job puts the parts together, under one tag. It may start with the others: it waits for what is
# missing, and says what that is.
set -euo pipefail

hod publish --next minor --wait 10m --summary "$SUMMARY"
