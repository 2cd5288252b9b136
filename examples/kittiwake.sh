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

say "What came in? Keys, types, missing cells, and which columns look like one measure over time."
show profile sleep_wide.csv --dictionary dictionary.toml

say "What is wrong with it? The exit status says so too, for scripts."
refused check roster.csv --key crew_id --dictionary dictionary.toml
refused check sleep_wide.csv --key crew_id --dictionary dictionary.toml --draft-ledger out/ledger_draft.csv

say "The team filled in ledgers: which cell, old value, new value, why, by whom. The raw files stay as they are."
show correct roster.csv --ledger ledger_roster.csv --dictionary dictionary.toml --out out/roster.csv
show correct sleep_wide.csv --ledger ledger_sleep_wide.csv --dictionary dictionary.toml --out out/sleep.csv
show check out/roster.csv --key crew_id

say "Before the corrections this merge would have been refused: one id stood twice."
refused merge roster.csv sleep_wide.csv --key crew_id --expect one-to-one --dictionary dictionary.toml

say "Now it is one to one. Labels, codes and reasons come along; a column says where each row came from."
show merge out/roster.csv out/sleep.csv --key crew_id --expect one-to-one --status source --out out/crew.csv

say "One row per crew member and month."
show to-long out/crew.csv --case crew_id --header "{measure}_m{month}" --out out/long.parquet --figure out/course.png

say "What is known of each vessel, by a key that the two files call differently."
show merge out/long.parquet vessels.csv --key vessel=vessel_code --expect many-to-one --rows base --out out/visits.csv

say "Questionnaire waves under each other; what was not asked in a wave says so."
show correct fatigue_m0.csv --ledger ledger_fatigue_m0.csv --dictionary dictionary.toml --out out/fatigue_m0.csv
show correct fatigue_m6.csv --ledger ledger_fatigue_m6.csv --dictionary dictionary.toml --out out/fatigue_m6.csv
show stack out/fatigue_m0.csv out/fatigue_m6.csv --mark month=fatigue_m{month} --case crew_id --out out/fatigue.csv

say "One row per crew member again, a column for each item and wave."
show to-wide out/fatigue.csv --case crew_id --occasion month --header "{measure}_m{month}" --constant sex,age \
    --out out/fatigue_wide.csv

say "Variables in rows and years in columns take two turns."
show to-long port_series.csv --case port,series --header "Y{year}" --value-name value --keep-empty --out out/port_long.csv
show to-wide out/port_long.csv --case port,year --occasion series --header "{series}" --label-from series_name \
    --out out/ports.csv

say "An interview had to be repeated: the later one counts. Where dates do not decide, nothing is chosen unseen."
refused subset interviews.csv --one-per crew_id,month --pick latest:int_date --dictionary dictionary.toml
show correct interviews.csv --ledger ledger_interviews.csv --dictionary dictionary.toml --out out/interviews.csv
show subset out/interviews.csv --one-per crew_id,month --pick latest:int_date --sort-by month,-wellbeing,crew_id \
    --left-out out/interviews_earlier.csv --out out/interviews_latest.csv

say "Postings are spells with a start and an end: what is wrong with them?"
refused check postings.csv --case crew_id --spell from..until --dictionary dictionary.toml
show correct postings.csv --ledger ledger_postings.csv --dictionary dictionary.toml --out out/postings.csv

say "Where was each crew member posted on the day of the visit? And how many days on which vessel?"
show merge out/fatigue.csv out/postings.csv --key crew_id --during visit_date=from..until --expect many-to-one \
    --rows base --out out/fatigue_posted.csv
show to-long out/postings.csv --case crew_id --spell from..until --every quarter --until 2024-12-31 --out out/quarters.csv
show aggregate out/quarters.csv --by posted_to,quarter --stat "days: sum" --stat "share(days < 30)" --out out/days.csv

say "Blood draws belong to the visit they are nearest to."
show merge out/fatigue.csv bloods.xlsx --key crew_id --near visit_date=drawn_on --within 21d --once --rows base \
    --missing-text "under range" --out out/fatigue_bloods.csv

say "Who was seen when? Patterns, who left and who came back, what was measured."
show coverage out/visits.csv --case crew_id --occasion month --figure out/coverage.png --out out/coverage.csv

show coverage out/visits.csv --case crew_id --occasion month --by sex --min-n 5 --figure out/stayed.png

say "Fatigue as a score: two items are worded the other way round, five of six must be there, wave by wave."
show score out/fatigue_wide.csv --dictionary dictionary.toml --header "{measure}_m{month}" --out out/fatigue_scored.csv

say "New variables: hours, change since the visit before, distance from one's own mean, months since joining, its square."
show derive out/visits.csv "sleep_h = sleep / 60" "change = change(sleep_h)" "own = sleep_h - case_mean(sleep_h)" \
    "age = age_on(birth_date, '2024-01-15')" "months = months_between(joined_on, '2024-01-15') + month" \
    "months2 = months ** 2" "age_band = bands(age, 30, 40, 50)" \
    --case crew_id --occasion month --label "sleep_h=Sleep in hours" --unit "sleep_h=h" --out out/derived.csv

say "Group level: sleep by route and month, with intervals; groups of fewer than 30 are suppressed."
show aggregate out/visits.csv --by route_type,month --stat "sleep: n missing mean sd ci" --stat "steps: median" \
    --min-n 30 --case crew_id --figure out/by_route.png --out out/by_route.csv

say "Noise by vessel beside every row, and how far the row is from it."
show aggregate out/visits.csv --by vessel --stat "noise_db,sleep: mean" --attach --deviation --out out/attached.csv

say "Before and after, each crew member with themselves; then as if they were strangers."
show subset out/visits.csv --where "month in (0, 6)" --out out/two_months.csv
show compare out/two_months.csv --measure sleep,steps,heart_rate --between month --paired-on crew_id --figure out/compare.png
show compare out/two_months.csv --measure sleep --between month

say "A course on sleep beside the usual briefing: alertness afterwards, adjusted for alertness before and age."
show correct training.csv --ledger ledger_training.csv --dictionary dictionary.toml --out out/training.csv
show compare out/training.csv --measure alert_post --between arm --adjust alert_pre,age --figure out/adjusted.png

say "A sample of crew members, so many of each sex, for a second reading of their files."
show subset out/visits.csv --sample 3 --sample-by sex --case crew_id --seed 7 --sort-by sex,crew_id,month \
    --columns crew_id,month,sex,vessel --out out/sample.csv

say "A rectangular panel for programs that want one: what was added says so."
show to-balanced out/visits.csv --case crew_id --occasion month --out out/panel.csv

say "For a program that reads only numbers: no header, one missing code, a text that says what is what, and our own input."
show export out/visits.csv --to out/model.dat --form bare --missing-code auto --companion reading.txt.j2 \
    --columns crew_id,month,sex,vessel,noise_db,sleep,heart_rate,steps

say "For a program that reads columns of fixed width, names of eight letters and lines of 80: with a codebook in XML."
show export out/crew.csv --to out/fixed.dat --form fixed --missing-code -9 --missing-code refused=-8 --names-max 8 \
    --line-max 80 --codebook out/crew.xml

say "For a colleague: a workbook with labels in the cells, and the dictionary on sheets of its own."
show export out/visits.csv --to out/visits.xlsx --show-labels sex --sort-by vessel,crew_id,month

say "For the archive: a package of tables that says which key belongs to which."
show export out/crew.csv out/visits.csv --to out/package --form package --primary-key crew_id

say "For a database: first what the table would be, then the table."
show export out/visits.csv --to "sqlite:///out/study.db#visits" --primary-key crew_id,month --index vessel --rehearse
show export out/visits.csv --to "sqlite:///out/study.db#visits" --primary-key crew_id,month --index vessel --describe
show tally "sqlite:///out/study.db#visits" sex vessel

say "All of it again, as a plan: steps in a file, done side by side, and only where something changed."
show run study_plan.toml
show run study_plan.toml
show history deliver/visits.parquet

say "A second delivery of two files: what differs from the first? Then the same plan again."
refused changes sleep_wide.csv second/sleep_wide.csv --key crew_id
show run study_plan.toml --set delivery=second

say "The first lines of what was delivered."
head -n 4 out/by_route.csv out/model.dat
head -n 24 out/model.columns.txt
head -n 12 out/model.reading.txt
say "Look next at demo/deliver/visits.html in a browser, demo/deliver/visits.xlsx, and demo/study_plan.toml."
