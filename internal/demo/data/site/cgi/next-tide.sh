#!/bin/sh
# Prints the next high water of this month as plain text.
table="../tides/$(date -u +%Y-%m).csv"
now=$(date -u +%Y-%m-%dT%H:%MZ)
printf 'Content-Type: text/plain\r\n\r\n'
awk -F, -v now="$now" 'NR > 1 && $1 > now { print $1, $2 " m"; exit }' "$table"
