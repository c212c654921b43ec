#!/bin/sh
# Carries out what was reviewed, after the merge. Run it in a checkout of the branch that was merged into:
#
#   merge.sh ENV OUT
#
# OUT is the folder that review.sh has filled, with the signatures that `kasbah approve OUT/proposal.json` has added.
# Where the proposal is out of date by now, it is proposed again as OUT/again.json and compared with the reviewed one.
# It goes on by itself only if nothing is different in what would be done; else it ends with 3, and OUT/different.txt
# says what is. Runs on the same resources wait for each other.
set -u
target=$1 out=$2
if [ ! -f "$out/proposal.json" ]; then
  echo "Nothing was to be done in $target."
  exit 0
fi

carry_out() {
  kasbah enact "$1" -yes -allow data,security -wait 30m -o "$out/run.json" -why "merge of $(cat "$out/commit")"
}

carry_out "$out/proposal.json"
code=$?
[ $code -eq 5 ] || exit $code

echo "The reviewed proposal was refused; comparing it with what would be done now."
# shellcheck disable=SC2046 # the names of wards hold no spaces
kasbah propose -env "$target" -o "$out/again.json" $(cat "$out/wards") > "$out/again.txt" || exit
kasbah review -against "$out/proposal.json" "$out/again.json" -exit-code > "$out/different.txt"
code=$?
cat "$out/different.txt"
[ $code -eq 0 ] || exit $code
carry_out "$out/again.json"
