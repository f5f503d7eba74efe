#!/bin/sh
# Runs every fuzz target of the tree, one after the other, each for the time that is given.
set -eu
cd "$(dirname "$0")/.."
grep -rlE --include='*_test.go' '^func Fuzz' internal | sort | while read -r file; do
  grep -oE '^func Fuzz[A-Za-z0-9]+' "$file" | cut -d' ' -f2 | while read -r target; do
    echo "$(dirname "$file") $target"
    go test "./$(dirname "$file")" -run '^$' -fuzz "^$target\$" -fuzztime "$1" -fuzzminimizetime 20x
  done
done
