"""The cleanup files that the demo puts into its folder."""

CLEANUPS = {
    "closed-stations.toml": """\
# Stations that were closed long ago, with all that was measured there. Photos stay: people like to
# look at them.
title    = "Stations closed long ago"
database = "gauges"

[params.closed_before]
type    = "date"
default = 2019-01-01
ask     = "Stations closed before which day?"

[guards]
max_share = 20.0

[[steps]]
name       = "closed stations"
delete     = "stations"
where      = "closed_on < :closed_before"
show       = ["name", "closed_on"]
expect     = "1.."
dependents = { photos = "detach" }
""",
    "trial-stations.toml": """\
# Stations that were set up to try something, with everything that depends on them.
title    = "Trial stations"
database = "gauges"

[params.opened_before]
type    = "date"
default = 2030-01-01

[[steps]]
name       = "trial stations"
delete     = "stations"
where      = ["is_trial = 1", "opened_on < :opened_before"]
dependents = { photos = "delete" }
max_rows   = 5000
""",
    "observers-twice.toml": """\
# People who registered a second time. The fuller entry stays, and takes over the visits of the
# other.
title    = "Observers registered twice"
database = "gauges"

[params.until]
type    = "date"
default = 2030-01-01

[[steps]]
name   = "observers registered twice"
dedupe = "observers"
where  = "registered_on < :until"
same   = "email"
ignore = ["case", "space"]
keep   = ["fullest", "oldest registered_on"]
fill   = "blank"
""",
    "readings-twice.toml": """\
# Batches of readings that were uploaded again. The later upload is right.
title    = "Readings uploaded twice"
database = "gauges"

[params.since]
type    = "timestamp"
default = 2000-01-01T00:00:00

[[steps]]
name   = "readings uploaded twice"
dedupe = "readings"
where  = "measured_at >= :since"
same   = ["sensor_id", "measured_at"]
keep   = "newest upload"
""",
    "orphans.toml": """\
# Readings of sensors that are long gone.
title    = "Orphaned readings"
database = "gauges"

[params.before]
type    = "timestamp"
default = 2100-01-01T00:00:00

[[steps]]
name    = "orphaned readings"
delete  = "readings"
where   = "measured_at < :before"
orphans = true
sample  = 3
""",
    "spring-cleaning.toml": """\
# Both in one transaction: the second step no longer sees what the first one deleted.
title    = "Readings that should not be there"
database = "gauges"

[params.before]
type    = "timestamp"
default = 2100-01-01T00:00:00
ask     = "Readings measured before which moment?"

[guards]
max_share = 5.0

[[steps]]
name    = "orphaned readings"
delete  = "readings"
where   = "measured_at < :before"
orphans = true
sample  = 3

[[steps]]
name   = "readings uploaded twice"
dedupe = "readings"
where  = "measured_at < :before"
same   = ["sensor_id", "measured_at"]
keep   = "newest upload"
groups = 1
""",
    "logger-lines.toml": """\
# Raw lines of the data logger that were loaded twice. They have no key: rows that are alike are the
# same.
title    = "Logger lines loaded twice"
database = "gauges"

[params.sensor]
type    = "text"
default = "S%"

[[steps]]
name   = "logger lines loaded twice"
dedupe = "logger_lines"
where  = "sensor_code LIKE :sensor"
same   = "all"
""",
}
