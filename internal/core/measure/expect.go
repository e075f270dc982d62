package measure

import "fmt"

// Expectation is what a change is meant to make better, in figures.
type Expectation struct {
	Metric Metric  `json:"metric" enum:"first-byte,first-contentful-paint,largest-contentful-paint,layout-shift,total-blocking-time,interaction-delay,visually-complete,load,transferred,content,requests"`
	Device string  `json:"device" enum:",desktop,phone" doc:"Empty: on each device that is measured."`
	Page   string  `json:"page" doc:"Empty: over all pages that are measured."`
	Amount float64 `json:"amount" minimum:"0" doc:"By how much at least, in the metric's unit: milliseconds, octets, or the number itself; 0 for any difference that matters."`
}

// Answer is what became of an expectation.
type Answer string

// The answers.
const (
	Met      Answer = "met"
	NotMet   Answer = "not met"
	NotShown Answer = "not shown" // the runs do not tell
)

// Answered says what became of an expectation, and why: for strangers who come for the first time. On several
// devices it has to be met on each.
func (e Expectation) Answered(list []Comparison) (Answer, string) {
	said, worst := "", Answer("")
	for _, c := range list {
		if c.Metric != e.Metric || c.Page != e.Page || e.Device != "" && c.Device != e.Device || !c.Usual() {
			continue
		}
		a := e.one(c)
		if said != "" {
			said += "; "
		}
		said += fmt.Sprintf("%s: %s (%s to %s)", c.Device, Signed(c.Unit, c.Shift), Signed(c.Unit, c.Low), Signed(c.Unit, c.High))
		if worst == "" || a == NotMet || a == NotShown && worst == Met {
			worst = a
		}
	}
	if worst == "" {
		return NotShown, "It was not measured there."
	}
	return worst, said + "."
}

func (e Expectation) one(c Comparison) Answer {
	switch {
	case c.Result == Worse || c.Result == NoDifference:
		return NotMet
	case c.Low > -e.Amount && e.Amount > 0:
		return NotMet // even the best end of the interval is less
	case c.Result == Better && c.High <= -e.Amount:
		return Met
	}
	return NotShown
}

// Text is an expectation in words.
func (e Expectation) Text() string {
	d := Of(e.Metric)
	text := d.Title + " gets better"
	if e.Amount > 0 {
		text += " by " + Shown(d.Unit, e.Amount) + " at least"
	}
	if e.Device != "" {
		text += " on a " + e.Device
	}
	if e.Page != "" {
		text += " at " + e.Page
	}
	return text
}
