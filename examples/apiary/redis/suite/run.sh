#!/bin/sh
# A tiny test suite: every case is a file of commands, and what they have to answer stands
# behind "# expect:" lines in it. Run it on a copy:
#
#   hemzo run -- sh suite/run.sh          a fresh copy, gone afterwards
#   sh suite/run.sh COPY                  a copy taken before
#
# Two of the cases leave keys behind on purpose.
cd "$(dirname "$0")" || exit 1
hemzo=${HEMZO_PROGRAM:-hemzo}
copy=${1:-$DATABASE_URL}
failed=0
for case in *.redis; do
  want=$(sed -n 's/^# expect: *//p' "$case")
  got=$("$hemzo" sql --bare --on "$copy" <"$case" 2>&1)
  if [ "$got" = "$want" ]; then
    echo "ok      ${case%.redis}"
  else
    failed=$((failed + 1))
    echo "FAILED  ${case%.redis}"
    echo "$want" | sed 's/^/          wanted  /'
    echo "$got" | sed 's/^hemzo: //; s/^/          got     /; 4q' | cut -c1-100
  fi
done
[ "$failed" -eq 0 ] || { echo "$failed failed"; exit 1; }
