#!/bin/sh
# The night watch: lamps, fog, and the log.
set -eu
mkdir -p log
lamps="north south east west"
n=0
for lamp in $lamps; do
    n=$((n + 1))
    echo "$lamp $((n * 7 % 5))" >> log/lamps
done
sort -k2 -n log/lamps | while read -r name level; do
    case $level in
        0|1) echo "$name: dim" ;;
        *) echo "$name: bright ($level)" ;;
    esac
done > log/report
cat log/report
count=$(grep -c bright log/report)
echo "bright: $count"
(
    cd log
    for f in *; do printf '%s %s\n' "$f" "$(wc -l < "$f")"; done
) | sort -r
fog() { sleep 0.2; echo "fog lifts" > log/fog; return 3; }
fog &
pid=$!
echo "waiting"
if wait $pid; then echo "clear"; else echo "status $?"; fi
cat log/fog
mkfifo log/horn
{ echo "long"; echo "short"; } > log/horn &
while read -r blast; do echo "horn: $blast"; done < log/horn
wait
{ echo one; echo two; echo three; } | sed 's/o/0/g' | tr a-z A-Z | nl | cut -c 5-
printf '%s\n' 1 2 3 4 5 | xargs -n 2 echo pair | tac
find log -type f | sort | tail -n 1
x=$(false || echo recovered)
echo "$x"
cat <<END | head -n 1
here $count
END
expr 6 '*' 7 | tee log/answer > /dev/null
test "$(cat log/answer)" = 42 && echo ok
rm -r log
yes | head -n 2
trap 'echo caught; exit 4' USR1
kill -USR1 $$
echo never
