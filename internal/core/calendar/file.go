package calendar

import (
	"bytes"
	"fmt"
	"maps"
	"slices"
	"strings"
	"time"
	"unicode/utf8"

	"github.com/emersion/go-ical"
)

const (
	icalClock = "20060102T150405"
	icalUTC   = "20060102T150405Z"
	icalDate  = "20060102"
	// ahead is for how long time zones and nights with changed clocks are written down.
	ahead = 5
)

// Write returns lines as iCalendar (RFC 5545), with their time zones, as of a moment. An
// occurrence that clocks make longer or shorter than the others is an event of its own, since
// to iCalendar all of them last equally long.
func Write(name string, lines []Line, now time.Time) ([]byte, error) {
	cal := ical.NewCalendar()
	cal.Props.SetText(ical.PropVersion, "2.0")
	cal.Props.SetText(ical.PropProductID, "-//Tide Marker//Calendar//EN")
	for _, prop := range []string{"NAME", "X-WR-CALNAME"} { // RFC 7986, and common practice
		called := ical.NewProp(prop)
		called.SetText(name)
		called.Params.Del(ical.ParamValue)
		cal.Props.Set(called)
	}
	since := now
	for _, l := range lines {
		if first := moment(l.first, l.zone); first.Before(since) {
			since = first
		}
	}
	for _, l := range lines {
		known := slices.ContainsFunc(cal.Children, func(c *ical.Component) bool {
			return c.Name == ical.CompTimezone && c.Props.Get(ical.PropTimezoneID).Value == l.Zone
		})
		if l.Zone != "UTC" && !known {
			cal.Children = append(cal.Children, zoneComponent(l.zone, since.AddDate(-1, 0, 0), now.AddDate(ahead, 0, 0)))
		}
	}
	for _, l := range lines {
		cal.Children = append(cal.Children, l.events(now)...)
	}
	if len(lines) == 0 {
		return emptyFile(cal), nil
	}
	var raw bytes.Buffer
	if err := ical.NewEncoder(&raw).Encode(cal); err != nil {
		return nil, fmt.Errorf("write the calendar: %w", err)
	}
	return folded(raw.Bytes()), nil
}

// emptyFile is a calendar without entries, which the encoder refuses to write and subscribers
// have to be able to read.
func emptyFile(cal *ical.Calendar) []byte {
	var out strings.Builder
	out.WriteString("BEGIN:VCALENDAR\r\n")
	for _, name := range []string{"NAME", ical.PropProductID, ical.PropVersion, "X-WR-CALNAME"} {
		out.WriteString(name + ":" + cal.Props.Get(name).Value + "\r\n")
	}
	return folded([]byte(out.String() + "END:VCALENDAR\r\n"))
}

// events are the event of a line and those of its occurrences that last otherwise.
func (l Line) events(now time.Time) []*ical.Component {
	main := l.event(l.at(l.first), now)
	if l.rule == nil {
		return []*ical.Component{main}
	}
	// The rule goes by what clocks say, also where they jump over it on the first day (RFC 5545, 3.3.5).
	main.Props.Set(l.clockProp(ical.PropDateTimeStart, l.first))
	opt := l.rule.OrigOptions
	opt.Dtstart = time.Time{}
	if !opt.Until.IsZero() {
		opt.Until = moment(opt.Until, l.zone).UTC()
	}
	rule := ical.NewProp(ical.PropRecurrenceRule)
	rule.Value = opt.RRuleString()
	main.Props.Set(rule)
	for _, x := range slices.SortedFunc(maps.Keys(l.except), time.Time.Compare) {
		main.Props.Add(l.clockProp(ical.PropExceptionDates, x))
	}
	main.Props.Del(ical.PropDateTimeEnd)
	length := ical.NewProp(ical.PropDuration)
	length.Value = fmt.Sprintf("PT%dH%dM", int(l.length.Hours()), int(l.length.Minutes())%60)
	main.Props.Set(length)
	out := []*ical.Component{main}
	for _, begins := range l.beginnings(now.AddDate(-1, 0, 0), now.AddDate(ahead, 0, 0)) {
		switch o := l.at(begins); {
		case !o.lasts():
			main.Props.Add(l.clockProp(ical.PropExceptionDates, begins))
		case o.Ends.Sub(o.Begins) != l.length:
			own := l.event(o, now)
			own.Props.Set(l.clockProp(ical.PropRecurrenceID, begins))
			out = append(out, own)
		}
	}
	return out
}

func (l Line) event(o Occurrence, now time.Time) *ical.Component {
	e := ical.NewEvent().Component
	e.Props.SetText(ical.PropUID, l.UID)
	e.Props.SetDateTime(ical.PropDateTimeStamp, now.UTC())
	e.Props.Set(l.clockProp(ical.PropDateTimeStart, onWall(o.Begins)))
	e.Props.Set(l.clockProp(ical.PropDateTimeEnd, onWall(o.Ends)))
	e.Props.SetText(ical.PropSummary, l.Title)
	e.Props.SetText(ical.PropCategories, strings.ToUpper(string(l.Kind)))
	e.Props.SetText(ical.PropTransparency, "TRANSPARENT")
	return e
}

func (l Line) clockProp(name string, wall time.Time) *ical.Prop {
	p := ical.NewProp(name)
	if p.Value = wall.Format(icalClock); l.Zone == "UTC" {
		p.Value += "Z"
	} else {
		p.Params.Set(ical.PropTimezoneID, l.Zone)
	}
	return p
}

// zoneComponent describes a time zone between two moments: one part for each way in which its
// clocks are changed, with the times at which they are.
func zoneComponent(zone *time.Location, from, to time.Time) *ical.Component {
	out := ical.NewComponent(ical.CompTimezone)
	out.Props.SetText(ical.PropTimezoneID, zone.String())
	parts := map[string]*ical.Component{}
	for t := from.In(zone); ; {
		begins, ends := t.ZoneBounds()
		if begins.IsZero() {
			begins = from.In(zone)
		}
		name, offset := begins.Zone()
		_, before := begins.Add(-time.Second).Zone()
		wall := onWall(begins).Add(-time.Duration(offset-before) * time.Second).Format(icalClock) // as clocks showed before
		key := fmt.Sprint(name, offset, before)
		if p := parts[key]; p != nil {
			date := ical.NewProp(ical.PropRecurrenceDates)
			date.Value = wall
			p.Props.Add(date)
		} else {
			kind := ical.CompTimezoneStandard
			if begins.IsDST() {
				kind = ical.CompTimezoneDaylight
			}
			p = ical.NewComponent(kind)
			for prop, value := range map[string]string{ical.PropDateTimeStart: wall, ical.PropTimezoneOffsetFrom: offsetText(before), ical.PropTimezoneOffsetTo: offsetText(offset), ical.PropTimezoneName: name} {
				set := ical.NewProp(prop)
				set.Value = value
				p.Props.Set(set)
			}
			parts[key] = p
			out.Children = append(out.Children, p)
		}
		if ends.IsZero() || ends.After(to) {
			return out
		}
		t = ends
	}
}

func offsetText(seconds int) string {
	sign := '+'
	if seconds < 0 {
		sign, seconds = '-', -seconds
	}
	return fmt.Sprintf("%c%02d%02d", sign, seconds/3600, seconds/60%60)
}

// folded breaks lines after 75 octets at most, between characters (RFC 5545, 3.1).
func folded(raw []byte) []byte {
	const most = 75
	var out bytes.Buffer
	for line := range bytes.Lines(raw) {
		line = bytes.TrimRight(line, "\r\n")
		for room := most; len(line) > room; room = most - 1 {
			at := room
			for at > 1 && !utf8.RuneStart(line[at]) {
				at--
			}
			out.Write(line[:at])
			out.WriteString("\r\n ")
			line = line[at:]
		}
		out.Write(line)
		out.WriteString("\r\n")
	}
	return out.Bytes()
}
