#!/bin/sh
# The main job on the demo study of the Kittiwake Line: raw files in, an analysis file out.
# Needs `lomrix` on the PATH; writes into the folder demo/ below the current one.
set -eu

typed() { # show a command as typed
    printf '\n$ lomrix'
    for word in "$@"; do
        case $word in *[\ {}*]*) printf ' "%s"' "$word" ;; *) printf ' %s' "$word" ;; esac
    done
    printf '\n'
}

show() { typed "$@"; lomrix "$@"; }

refused() { # a command that is refused, and should be
    typed "$@"
    if lomrix "$@" 2>&1; then echo "this should have been refused"; exit 1; else echo "(exit status $?)"; fi
}

say() { printf '\n# %s\n' "$1"; }

rm -rf demo
say "The study: made up, with the flaws that real files have."
show demo demo
mkdir -p demo/out
cd demo

say "A rehearsal first. One row per crew member is expected, and one id stands twice."
refused merge roster.csv sleep_wide.csv --key crew_id --expect one-to-one --dictionary dictionary.toml

say "Knowing that, the base may repeat: every row keeps its place, and a column says where it came from."
show merge roster.csv sleep_wide.csv --key crew_id --expect many-to-one --status source \
    --dictionary dictionary.toml --out out/crew.csv

say "One row per crew member and month. Labels, codes and reasons came along beside crew.csv."
show to-long out/crew.csv --case crew_id --header "{measure}_m{month}" --out out/long.parquet

say "What is known of each vessel, by a key that the two files call differently."
show merge out/long.parquet vessels.csv --key vessel=vessel_code --expect many-to-one --rows base --out out/visits.csv

say "Group level: sleep by route and month."
show aggregate out/visits.csv --by route_type,month --stat "sleep: n missing mean sd" --stat "steps: median" \
    --out out/by_route.csv

say "For a program that reads only numbers: no header, one missing code, a text that says what is what."
show export out/visits.csv --to out/model.dat --form bare --missing-code auto \
    --columns crew_id,month,sex,vessel,noise_db,sleep,heart_rate,steps

say "The first lines of what was delivered."
head -n 4 out/by_route.csv out/model.dat
head -n 24 out/model.columns.txt
