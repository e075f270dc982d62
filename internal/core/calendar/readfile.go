package calendar

import (
	"bytes"
	"errors"
	"fmt"
	"io"
	"slices"
	"strings"
	"time"

	"github.com/emersion/go-ical"
)

// MostEntries is how many entries a file may have.
const MostEntries = 1000

// ReadFile reads the events of iCalendar files as entries. kind is what those are that do not say
// it by their categories; zoneName is where the times of those are that name no zone. An event that was
// called off is left out; one that was moved is an entry of its own. The error says which event
// cannot be read, and why.
func ReadFile(raw []byte, kind Kind, zoneName string, zone func(string) (*time.Location, error)) (entries []Entry, err error) {
	defer func() { // the library indexes what it has not checked
		if p := recover(); p != nil {
			entries, err = nil, fmt.Errorf("the file is no iCalendar file that can be read: %v", p)
		}
	}()
	dec := ical.NewDecoder(bytes.NewReader(raw))
	r := reader{kind, zoneName, zone}
	var own []occurrenceOf
	for calendars := 0; ; calendars++ {
		cal, err := dec.Decode()
		if errors.Is(err, io.EOF) && calendars > 0 {
			break
		}
		if err != nil {
			return nil, fmt.Errorf("the file is no iCalendar file that can be read: %w", err)
		}
		for _, e := range cal.Events() {
			if len(entries)+len(own) >= MostEntries {
				return nil, fmt.Errorf("the file has more than %d events", MostEntries)
			}
			entry, err := r.event(e.Component)
			if err != nil {
				return nil, fmt.Errorf("event “%s”: %w", valueOf(e.Component, ical.PropSummary), err)
			}
			if of := e.Props.Get(ical.PropRecurrenceID); of != nil {
				own = append(own, occurrenceOf{entry, *of})
			} else {
				entries = append(entries, entry)
			}
		}
	}
	if entries, err = r.withOwn(entries, own); err != nil {
		return nil, err
	}
	entries = slices.DeleteFunc(entries, Entry.calledOff)
	if len(entries) == 0 {
		return nil, errors.New("the file has no event")
	}
	for _, e := range entries {
		if _, err := Read(e, zone); err != nil {
			return nil, fmt.Errorf("event “%s”: %w", e.Title, err)
		}
	}
	return entries, nil
}

// reader reads events: what they are and where their times are as long as they do not say.
type reader struct {
	kind     Kind
	zoneName string
	zone     func(string) (*time.Location, error)
}

// occurrenceOf is an event that stands for one occurrence of a recurring one.
type occurrenceOf struct {
	entry Entry
	of    ical.Prop // the beginning that it would have
}

// withOwn adds occurrences that are events of their own as entries, and leaves them out of the
// recurring entries. Those that are only how [Write] says that clocks are changed are not needed.
func (r reader) withOwn(entries []Entry, own []occurrenceOf) ([]Entry, error) {
	for _, o := range own {
		at := slices.IndexFunc(entries, func(e Entry) bool { return e.UID == o.entry.UID })
		if at < 0 || entries[at].calledOff() {
			if !o.entry.calledOff() {
				entries = append(entries, o.entry)
			}
			continue
		}
		l, err := Read(entries[at], r.zone)
		if err != nil {
			return nil, fmt.Errorf("event “%s”: %w", entries[at].Title, err)
		}
		of, err := r.clock(o.of, l.zone)
		if err != nil {
			return nil, fmt.Errorf("event “%s”: %w", o.entry.Title, err)
		}
		if !o.entry.calledOff() {
			moved, err := Read(o.entry, r.zone)
			if err != nil {
				return nil, fmt.Errorf("event “%s”: %w", o.entry.Title, err)
			}
			planned, there := l.at(of), moved.at(moved.first)
			if planned.Begins.Equal(there.Begins) && planned.Ends.Equal(there.Ends) && l.Title == moved.Title && l.Kind == moved.Kind {
				continue
			}
			o.entry.UID += "/" + of.Format(Clock)
			entries = append(entries, o.entry)
		}
		entries[at].Except = append(entries[at].Except, of.Format(Clock))
	}
	return entries, nil
}

// calledOff tells whether an event was cancelled, while a file is read.
func (e Entry) calledOff() bool { return e.Kind == "" }

// event reads one event.
func (r reader) event(e *ical.Component) (out Entry, err error) {
	out = Entry{UID: valueOf(e, ical.PropUID), Kind: r.kind, Title: valueOf(e, ical.PropSummary), Except: []string{}}
	for _, c := range e.Props.Values(ical.PropCategories) {
		for _, known := range []Kind{Freeze, Window} {
			if strings.EqualFold(c.Value, string(known)) {
				out.Kind = known
			}
		}
	}
	if strings.EqualFold(valueOf(e, ical.PropStatus), "CANCELLED") {
		out.Kind = ""
	}
	if e.Props.Get(ical.PropRecurrenceDates) != nil {
		return out, errors.New("it has dates of its own (RDATE) beside its rule. Make events of them")
	}
	start := e.Props.Get(ical.PropDateTimeStart)
	if start == nil {
		return out, errors.New("it has no beginning")
	}
	if rule := e.Props.Get(ical.PropRecurrenceRule); rule != nil {
		out.Rule = rule.Value
	}
	begins, name, err := readClock(*start, r.zoneName)
	if err != nil {
		return out, err
	}
	zone, err := r.zoneOf(name)
	if err != nil {
		return out, err
	}
	ends, err := r.end(e, begins, zone)
	if err != nil {
		return out, err
	}
	out.Zone, out.Begins, out.Ends = name, begins.Format(Clock), ends.Format(Clock)
	for _, x := range e.Props.Values(ical.PropExceptionDates) {
		for value := range strings.SplitSeq(x.Value, ",") {
			one := x
			one.Value = value
			at, err := r.clock(one, zone)
			if err != nil {
				return out, err
			}
			out.Except = append(out.Except, at.Format(Clock))
		}
	}
	return out, nil
}

func (r reader) zoneOf(name string) (*time.Location, error) {
	zone, err := r.zone(name)
	if err != nil {
		return nil, fmt.Errorf("its time zone “%s” is none of the IANA database, as Europe/Vienna is. Save it with such a zone, or in UTC", name)
	}
	return zone, nil
}

// end is when an event ends: as it says, after its duration, or after a day (RFC 5545, 3.6.1).
func (r reader) end(e *ical.Component, begins time.Time, zone *time.Location) (time.Time, error) {
	if end := e.Props.Get(ical.PropDateTimeEnd); end != nil {
		return r.clock(*end, zone)
	}
	if d := e.Props.Get(ical.PropDuration); d != nil {
		length, err := d.Duration()
		if err != nil {
			return begins, fmt.Errorf("“%s” is no duration", d.Value)
		}
		return begins.Add(length), nil
	}
	if len(e.Props.Get(ical.PropDateTimeStart).Value) == len(icalDate) {
		return begins.AddDate(0, 0, 1), nil
	}
	return begins, errors.New("it has no end")
}

// clock reads a time and says what the clock of a zone shows then.
func (r reader) clock(p ical.Prop, zone *time.Location) (time.Time, error) {
	at, name, err := readClock(p, r.zoneName)
	if err != nil || name == zone.String() || len(p.Value) == len(icalDate) {
		return at, err
	}
	from, err := r.zoneOf(name)
	if err != nil {
		return at, err
	}
	return onWall(moment(at, from).In(zone)), nil
}

// readClock reads a time as the clock shows it, and in which zone.
func readClock(p ical.Prop, zoneName string) (time.Time, string, error) {
	if id := p.Params.Get(ical.PropTimezoneID); id != "" {
		zoneName = id
	}
	for layout, utc := range map[string]bool{icalClock: false, icalUTC: true, icalDate: false} {
		if t, err := time.Parse(layout, p.Value); err == nil {
			if utc {
				zoneName = "UTC"
			}
			return t.Truncate(time.Minute), zoneName, nil
		}
	}
	return time.Time{}, "", fmt.Errorf("“%s” is no date and time of RFC 5545", p.Value)
}

// valueOf is what a property says, "" when it is not there.
func valueOf(e *ical.Component, name string) string {
	p := e.Props.Get(name)
	if p == nil {
		return ""
	}
	if text, err := p.Text(); err == nil {
		return text
	}
	return p.Value
}
