#!/bin/sh
# A tiny test suite: every case is an SQL file, and what it has to print stands
# behind "-- expect:" lines in it. Run it on a copy:
#
#   hemzo run -- sh suite/run.sh          a fresh copy, gone afterwards
#   sh suite/run.sh COPY                  a copy taken before
#
# Two of the cases leave rows behind on purpose.
cd "$(dirname "$0")" || exit 1
hemzo=${HEMZO_PROGRAM:-hemzo}
copy=${1:-$DATABASE_URL}
failed=0
for case in *.sql; do
  want=$(sed -n 's/^-- expect: *//p' "$case")
  got=$("$hemzo" sql --bare --on "$copy" <"$case" 2>&1)
  if [ "$got" = "$want" ]; then
    echo "ok      ${case%.sql}"
  else
    failed=$((failed + 1))
    echo "FAILED  ${case%.sql}"
    echo "$want" | sed 's/^/          wanted  /'
    echo "$got" | sed 's/^hemzo: //; s/^/          got     /; 4q' | cut -c1-100
  fi
done
[ "$failed" -eq 0 ] || { echo "$failed failed"; exit 1; }
