#!/bin/sh
# What a branch would do in one environment, for its pull request. Run it in a checkout of the branch:
#
#   review.sh ENV BASE OUT [WARD...]
#
# ENV is the environment, BASE the branch that it is to be merged into, OUT a folder for what comes of it:
#
#   check.sarif    every mistake and broken rule, for annotations
#   affected.txt   the wards that declare something else than BASE, and what; wards has their names
#   proposal.json  what would be done; merge.sh carries out this very file
#   comment.md     the same for a comment of at most 60000 bytes
#   page.html      the same as a page
#
# It ends with the code of `kasbah check` or `kasbah propose`: 0, 1 for a mistake, 5 for a rule or a step that blocks.
set -u
target=$1 base=$2 out=$3
shift 3
mkdir -p "$out"
rm -f "$out"/*

since=$(git merge-base "$base" HEAD) || exit 1
git rev-parse HEAD > "$out/commit"

kasbah check -env "$target" -form sarif > "$out/check.sarif" 2> /dev/null
code=$?
if [ $code -ne 0 ]; then
  { echo "## $target: not right yet"; echo '```'; kasbah check -env "$target" 2>&1; echo '```'; } > "$out/comment.md"
  exit $code
fi

kasbah affected -since "$since" -env "$target" "$@" > "$out/affected.txt" &&
  kasbah affected -since "$since" -env "$target" -plain "$@" > "$out/wards" || exit
kasbah propose -since "$since" -env "$target" -o "$out/proposal.json" "$@" > "$out/propose.txt" 2>&1
code=$?
if [ -f "$out/proposal.json" ]; then
  kasbah review "$out/proposal.json" -form markdown -fit 60000 > "$out/comment.md" &&
    kasbah review "$out/proposal.json" -form html > "$out/page.html" || exit
elif [ $code -eq 0 ]; then
  echo "No ward is affected in $target." > "$out/comment.md"
else
  { echo "## $target: not proposed"; echo '```'; cat "$out/propose.txt"; echo '```'; } > "$out/comment.md"
fi
exit $code
