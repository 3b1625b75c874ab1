#!/bin/sh
# Stops a merge that gives somebody something of high risk, until somebody writes why.
#
#   gate.sh BEFORE FOLDER
#
# BEFORE is the revision that is merged into, such as main or origin/main; FOLDER holds the charter. Whoever has thought
# about it says so in a trailer of a commit on the branch, which stays in the history beside the change:
#
#   High-risk-because: Bram stands in for Ada until May; the committee agreed on 3 March.
set -eu
before=$1 folder=$2

ask-above check --community "$folder" --format junit > expectations.xml || status=$?
if [ "${status:-0}" -eq 2 ]; then
  ask-above check --community "$folder"
  exit 2
fi

if ask-above impact "git:$before" --community "$folder" --format junit > impact.xml; then
  exit 0
fi

why=$(git log --format='%(trailers:key=High-risk-because,valueonly)' "$before..HEAD" -- | sed '/^$/d')
ask-above impact "git:$before" --community "$folder" || true
if [ -n "$why" ]; then
  echo "Let through, because: $why"
  exit 0
fi
echo "Stopped. To let it through, say why in a commit of this branch:"
echo "  git commit --allow-empty -m 'The reason' --trailer 'High-risk-because: ...'"
exit 1
