"""What each command is used for, on the tables of the demo. Imports nothing."""

EXAMPLES = {
    "survey": (
        "yeldro survey",
        "yeldro survey stations",
        "yeldro survey --findings",
    ),
    "preview": (
        "yeldro preview stations --where \"closed_on < '2019-01-01'\"",
        "yeldro preview readings --orphans --sample 3",
        "yeldro preview readings --order-by measured_at --limit 100 --by-time measured_at",
    ),
    "delete": (
        "yeldro delete alerts --where \"raised_at < '2015-01-01'\" --rehearse",
        "yeldro delete stations --key 10 --dependents photos=detach --expect 1",
        "yeldro delete readings --where \"measured_at < '2017-01-01'\" --batch 500",
    ),
    "clear": (
        "yeldro clear observers --key 3 --columns email,phone --rehearse",
        "yeldro clear observers --where 'id < 9' --columns phone --to blank",
    ),
    "duplicates": (
        "yeldro duplicates observers --same email --ignore case,space",
        "yeldro duplicates observers --same email --ignore case,space --keep fullest --groups 2",
    ),
    "dedupe": (
        "yeldro dedupe readings --same sensor_id,measured_at --keep 'newest upload' --rehearse",
        "yeldro dedupe observers --same email --ignore case,space --keep fullest --fill",
    ),
    "run": (
        "yeldro run closed-stations.toml --explain",
        "yeldro run closed-stations.toml -p closed_before=2013-01-01",
    ),
    "script": (
        "yeldro script closed-stations.toml",
        "yeldro script closed-stations.toml -p closed_before=2017-01-01 --dry",
    ),
    "resume": ("yeldro resume last",),
    "restore": (
        "yeldro restore last --rehearse",
        "yeldro restore last --table readings",
        "yeldro restore last",
    ),
    "history": (
        "yeldro history",
        "yeldro history last",
        "yeldro history --verify",
    ),
    "report": (
        "yeldro report last",
        "yeldro report closed-stations.toml -o closed.html",
    ),
    "review": ("yeldro review theirs.sql",),
    "map": (
        "yeldro map stations",
        "yeldro map --draw map.svg",
    ),
}
