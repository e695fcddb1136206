# The first process of a container that Hemzo starts: it runs the image's own
# entry, ends the server when standard input closes (whoever holds it has
# gone), and keeps the data of a server that ended cleanly.
exec 3<&0 </dev/null
pid= ending=
end() { ending=1; [ -z "$pid" ] || kill -s "$HEMZO_STOP" "$pid" 2>/dev/null; }
trap end TERM INT HUP
if [ -f /hemzo/seed/seed.tar ] && [ -z "$(ls -A "$HEMZO_DATA" 2>/dev/null)" ]; then
  mkdir -p "$HEMZO_DATA"
  tar -xpf /hemzo/seed/seed.tar -C "$HEMZO_DATA" || exit 90
fi
"$@" 3<&- &
pid=$!
{ cat <&3 >/dev/null; kill -s TERM 1; } &
while :; do
  wait "$pid"
  code=$?
  kill -0 "$pid" 2>/dev/null || break
  # A signal that came before the server listened to it is lost.
  [ -z "$ending" ] || { sleep 0.2; kill -s "$HEMZO_STOP" "$pid" 2>/dev/null; }
done
if [ "$code" = 0 ] && [ -n "$HEMZO_DATA" ] && [ -n "$ending" ]; then
  tar -cf /hemzo/seed/new.tar -C "$HEMZO_DATA" . && mv /hemzo/seed/new.tar /hemzo/seed/seed.tar
fi
exit "$code"
