#!/bin/sh
# Finds what was changed by hand, and removes environments whose time is over. Run it every night in a checkout of the
# main branch:
#
#   nightly.sh ENV OUT
#
# OUT gets drift.xml, a JUnit report. It ends with 3 when something drifted.
set -u
target=$1 out=$2
mkdir -p "$out"
kasbah raze -ended -yes -allow data,security
ended=$?
kasbah survey -env "$target" -exit-code -form junit -o "$out/drift.xml"
code=$?
[ $code -ne 0 ] || code=$ended
exit $code
