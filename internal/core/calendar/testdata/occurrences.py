"""Makes occurrences.json: what another reader of RFC 5545 and of time zones says.

It needs python-dateutil and a zone database of 2024 or later:
    python3 occurrences.py > occurrences.json
"""
import datetime
import hashlib
import json
import zoneinfo

from dateutil import rrule

ZONES = ["Europe/Oslo", "America/New_York", "Australia/Lord_Howe", "America/Santiago", "Africa/Casablanca", "Asia/Kolkata"]
RULES = [
    ("FREQ=DAILY", "2015-01-01T02:30"),
    ("FREQ=DAILY", "2015-01-01T00:00"),
    ("FREQ=DAILY;INTERVAL=3", "2015-01-01T01:45"),
    ("FREQ=WEEKLY;BYDAY=SA,SU", "2015-01-03T22:00"),
    ("FREQ=WEEKLY;INTERVAL=2;BYDAY=SU;WKST=SU", "2015-01-04T02:15"),
    ("FREQ=MONTHLY;BYDAY=2SU,-1SU", "2015-01-01T02:00"),
    ("FREQ=MONTHLY;BYDAY=MO,TU,WE,TH,FR;BYSETPOS=-1", "2015-01-01T23:30"),
    ("FREQ=MONTHLY;BYMONTHDAY=31", "2015-01-31T03:00"),
    ("FREQ=YEARLY;BYMONTH=2;BYMONTHDAY=29", "2015-01-01T12:00"),
    ("FREQ=YEARLY;BYWEEKNO=20;BYDAY=MO", "2015-01-01T02:30"),
    ("FREQ=HOURLY;INTERVAL=5", "2015-01-01T00:10"),
    ("FREQ=DAILY;BYHOUR=1,2,3;COUNT=9000", "2015-01-01T01:30"),
    ("FREQ=WEEKLY;UNTIL=20200329T013000Z", "2015-01-04T02:30"),
]
UTC = datetime.timezone.utc
out = []
for name in ZONES:
    zone = zoneinfo.ZoneInfo(name)
    for rule, begins in RULES:
        start = datetime.datetime.fromisoformat(begins)
        text = rule
        if "UNTIL=" in rule:  # given in UTC; the rule runs on walls
            head, until = rule.split("UNTIL=")
            moment = datetime.datetime.strptime(until, "%Y%m%dT%H%M%SZ").replace(tzinfo=UTC)
            text = head + "UNTIL=" + moment.astimezone(zone).strftime("%Y%m%dT%H%M%S")
        instants = []
        for wall in rrule.rrulestr(text, dtstart=start).between(start, datetime.datetime(2025, 1, 1), inc=True):
            at = wall.replace(tzinfo=zone).astimezone(UTC)  # fold=0: the first, or the offset from before
            if at < datetime.datetime(2024, 12, 31, tzinfo=UTC) and (not instants or at > instants[-1]):
                instants.append(at)
        lines = [at.strftime("%Y-%m-%dT%H:%M:%SZ") for at in instants]
        near = []
        for line, at in zip(lines, instants):
            day = datetime.timedelta(days=1)
            if (at - day).astimezone(zone).utcoffset() != (at + day).astimezone(zone).utcoffset():
                near.append(line)
        out.append({"zone": name, "rule": rule, "begins": begins, "count": len(lines),
                    "digest": hashlib.sha256("\n".join(lines).encode()).hexdigest(), "near_changes": near[:12]})
print(json.dumps(out, indent=1))
