"""Writes recurrences.json: occurrences of recurrence rules by python-dateutil (dateutil.rrule, dateutil.tz)."""
import json
from itertools import islice
from datetime import datetime, timezone
import dateutil
from dateutil import rrule, tz

CASES = [
    ("Europe/Vienna", "2026-11-28T22:00", "FREQ=WEEKLY;BYDAY=SA"),
    ("Europe/Vienna", "2026-10-20T02:30", "FREQ=DAILY;COUNT=12"),
    ("Europe/Vienna", "2027-03-24T02:30", "FREQ=DAILY;COUNT=9"),
    ("America/New_York", "1997-09-02T09:00", "FREQ=DAILY;COUNT=10"),
    ("America/New_York", "1997-09-02T09:00", "FREQ=WEEKLY;INTERVAL=2;WKST=SU;BYDAY=TU,TH;COUNT=8"),
    ("America/New_York", "1997-09-05T09:00", "FREQ=MONTHLY;COUNT=10;BYDAY=1FR"),
    ("America/New_York", "1997-09-28T09:00", "FREQ=MONTHLY;BYMONTHDAY=-3;COUNT=6"),
    ("America/New_York", "1997-06-10T09:00", "FREQ=YEARLY;COUNT=10;BYMONTH=6,7"),
    ("America/New_York", "1996-11-05T09:00", "FREQ=YEARLY;INTERVAL=4;BYMONTH=11;BYDAY=TU;BYMONTHDAY=2,3,4,5,6,7,8;COUNT=3"),
    ("America/New_York", "1997-09-29T09:00", "FREQ=MONTHLY;BYDAY=MO,TU,WE,TH,FR;BYSETPOS=-2;COUNT=7"),
    ("America/New_York", "2026-11-01T01:30", "FREQ=YEARLY;BYMONTH=11;BYDAY=1SU;COUNT=4"),
    ("Australia/Lord_Howe", "2026-10-01T02:15", "FREQ=DAILY;COUNT=8"),
    ("Asia/Kolkata", "2026-01-31T18:45", "FREQ=MONTHLY;BYMONTHDAY=31;COUNT=7"),
    ("America/Sao_Paulo", "2018-11-03T00:30", "FREQ=DAILY;COUNT=3"),
    ("UTC", "2028-02-29T00:00", "FREQ=YEARLY;COUNT=4"),
    ("Europe/Vienna", "2026-12-21T00:00", "FREQ=YEARLY;BYWEEKNO=52;BYDAY=MO;COUNT=5"),
]

out = []
for zone, start, rule in CASES:
    first = datetime.fromisoformat(start)
    times = []
    for t in islice(rrule.rrulestr(rule, dtstart=first), 40):
        there = tz.resolve_imaginary(t.replace(tzinfo=tz.gettz(zone), fold=0))
        times.append(there.astimezone(timezone.utc).strftime("%Y-%m-%dT%H:%M:%SZ"))
    out.append({"zone": zone, "begins": start, "rule": rule, "times": times})
json.dump({"by": "python-dateutil " + dateutil.__version__, "cases": out}, open("recurrences.json", "w"), indent=1)
