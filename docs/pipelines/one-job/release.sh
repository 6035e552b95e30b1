#!/usr/bin/env bash
# One job builds the product and publishes it; the next version is taken from the ledger.
set -euo pipefail

# May this job do what it must? Better known before the build than after it.
hod access check dev

# Stands for whatever builds your images into out/.
./build.sh

# The CI shows the summary to people; the outputs are for the lines below.
hod publish --next minor --summary "$SUMMARY" --outputs "$OUTPUTS"
. "$OUTPUTS"

# What was published is what the next environment gets.
hod promote uat --version "$VERSION" --summary "$SUMMARY" --outputs "$OUTPUTS"
. "$OUTPUTS"

# Deploy by digest, not by a tag that could move.
echo "deploying $TIMETABLE_REFERENCE"
