package evidence

import (
	"cmp"
	"crypto/sha256"
	"encoding/hex"
	"fmt"
	"slices"
	"strings"

	"tidemarker/internal/core/site"
	"tidemarker/internal/core/visual"
	"tidemarker/internal/core/words"
)

// Kind says what sort of difference a finding is. The kinds are those of the check
// report.
type Kind string

// The kinds.
const (
	PictureKind     Kind = "picture"
	JourneyKind     Kind = "journey"
	ScriptErrorKind Kind = "script-error"
	RequestKind     Kind = "request"
	MissingKind     Kind = "missing-resource"
	ShiftKind       Kind = "layout-shift"
	LeakKind        Kind = "cache-leak"
	PolicyKind      Kind = "cache-policy"
	VariantKind     Kind = "wrong-variant"
	FormKind        Kind = "form-refused"
	StaleKind       Kind = "stale-content"
	ContentKind     Kind = "content"
	NotCheckedKind  Kind = "not-checked"
	MetricKind      Kind = "metric" // a budget, which was measured with the earlier settings, too
)

// Severity says how much a finding weighs.
type Severity string

// The severities.
const (
	Broken Severity = "broken" // a visitor is worse off
	Unsure Severity = "unsure" // a person must look
	Note   Severity = "note"   // worth knowing, weighs nothing
)

// Finding is one difference that a check reports.
type Finding struct {
	Kind        Kind           `json:"kind" enum:"picture,journey,script-error,request,missing-resource,layout-shift,cache-leak,cache-policy,stale-content,wrong-variant,form-refused,content,metric,not-checked"`
	Severity    Severity       `json:"severity" enum:"broken,unsure,note"`
	Page        string         `json:"page"`
	Persona     string         `json:"persona"`
	Device      string         `json:"device" enum:"desktop,phone"`
	Title       string         `json:"title"`
	Detail      string         `json:"detail,omitempty"`
	Journey     string         `json:"journey,omitempty"`
	Step        *int           `json:"step,omitempty" doc:"Index of the step that did not hold, from 0."`
	Region      *visual.Region `json:"region,omitempty"`
	Weight      Weight         `json:"weight,omitempty" doc:"How much what changed weighs by what it is: 2 what people act with, 1 content, 0 what stands at the side."`
	Cause       string         `json:"cause" doc:"Findings of one cause belong together."`
	Symptom     bool           `json:"symptom,omitempty" doc:"It comes of another finding of the same cause."`
	Pass        int            `json:"pass,omitempty" doc:"The pass of the look that shows it, when it is not the first."`
	Host        string         `json:"host,omitempty" doc:"A host that was not asked, because the site does not list it."`
	Known       bool           `json:"known,omitempty" doc:"It follows from the settings; nobody had to see it."`
	Control     *Control       `json:"control,omitempty" doc:"What looks with the earlier settings say of it."`
	Fingerprint string         `json:"fingerprint" doc:"Known again in another check by this."`
	Part        string         `json:"part,omitempty" doc:"What it was found with, before it was tied to another cause."`
}

// about starts a finding on what was looked at.
func (k Key) about(kind Kind, severity Severity, title string) Finding {
	return Finding{Kind: kind, Severity: severity, Page: k.Page, Persona: k.Persona, Device: k.Device, Journey: k.Journey, Title: title}
}

// caused sets what the finding is due to, and with it its fingerprint.
func (f Finding) caused(cause string) Finding {
	return f.dueTo(string(f.Kind) + ": " + cause)
}

// Follows is a finding that follows from the settings: nobody had to see it.
func Follows(page string, kind Kind, severity Severity, title, detail, cause string) Finding {
	f := Key{Page: page, Persona: site.Visitor, Device: site.Desktop}.about(kind, severity, title).with("%s", detail).dueTo("settings: " + cause)
	f.Known = true
	return f
}

// FollowsFromSettings tells whether a finding is a contradiction between the settings and what is
// known, for which no page has to be looked at.
func (f Finding) FollowsFromSettings() bool {
	return f.Known && strings.HasPrefix(f.OwnCause(), "settings: ")
}

// dueTo is caused for a cause that findings of other kinds have, too.
func (f Finding) dueTo(cause string) Finding {
	f.Cause, f.Part = cause, cause
	sum := sha256.Sum256([]byte(strings.Join([]string{f.Page, f.Persona, f.Device, f.Journey, f.Cause}, "\x00")))
	f.Fingerprint = hex.EncodeToString(sum[:])
	return f
}

func (f Finding) with(detail string, args ...any) Finding {
	f.Detail = fmt.Sprintf(detail, args...)
	return f
}

// OwnCause is what the finding was found with, before it was tied to another's cause.
func (f Finding) OwnCause() string {
	return cmp.Or(f.Part, f.Cause)
}

// Key is what the finding is about.
func (f Finding) Key() Key { return Key{f.Page, f.Journey, f.Persona, f.Device} }

// NeedsSecondLook tells whether a difference of this kind could be chance, so that
// it counts only when a second look shows it too.
func (f Finding) NeedsSecondLook() bool {
	switch f.Kind {
	case PictureKind, JourneyKind, ScriptErrorKind, RequestKind, MissingKind, ShiftKind, ContentKind:
		return f.Severity != Note
	}
	return false
}

// Confirm keeps what two looks at the same thing agree on. A finding of the first
// look that the second does not show is kept as a note; for a journey, that failed
// once and worked once, a person must look.
func Confirm(first, second []Finding) []Finding {
	out := slices.Clone(first)
	for i, f := range out {
		if !f.NeedsSecondLook() || slices.ContainsFunc(second, f.agrees) {
			continue
		}
		if f.Kind == JourneyKind {
			out[i].Severity = Unsure
			out[i].Detail = strings.TrimSpace(f.Detail + " It worked when the journey was taken again.")
			continue
		}
		out[i].Severity = Note
		out[i].Detail = strings.TrimSpace(f.Detail + " A second look did not show it again.")
	}
	return out
}

// Repeated tells whether a second look showed a finding again.
func (f Finding) Repeated() bool { return f.Kind != JourneyKind || f.Severity == Broken }

func (f Finding) agrees(g Finding) bool {
	if f.Kind != g.Kind || f.Key() != g.Key() {
		return false
	}
	if f.Region != nil && g.Region != nil {
		return f.Region.Rect().Overlaps(g.Region.Rect())
	}
	return f.Kind == JourneyKind || f.Kind == ShiftKind || f.Cause == g.Cause
}

// Verdict is what a check comes to.
type Verdict string

// The verdicts.
const (
	VerdictClear      Verdict = "clear"
	VerdictBroken     Verdict = "broken"
	VerdictUnsure     Verdict = "unsure"
	VerdictNotChecked Verdict = "not checked"
)

// Judge turns findings into a verdict. Something broken weighs most; then what could
// not be looked at, which never counts as clear; then what a person must look at.
// Accepted findings have to be left out by the caller.
func Judge(findings []Finding, looks Progress) Verdict {
	has := func(s Severity) bool {
		return slices.ContainsFunc(findings, func(f Finding) bool { return f.Severity == s && f.Kind != NotCheckedKind })
	}
	missed := slices.ContainsFunc(findings, func(f Finding) bool { return f.Kind == NotCheckedKind && f.Severity != Note })
	switch {
	case has(Broken):
		return VerdictBroken
	case missed || looks.Done < looks.Planned || looks.Planned == 0:
		return VerdictNotChecked
	case has(Unsure):
		return VerdictUnsure
	}
	return VerdictClear
}

// Progress counts looks.
type Progress struct {
	Planned int `json:"planned"`
	Done    int `json:"done"`
	Failed  int `json:"failed" doc:"Looks that could not be made."`
}

// Summarise says in one sentence what a maintainer has to know.
func Summarise(v Verdict, findings []Finding, looks Progress) string {
	switch v {
	case VerdictClear:
		return fmt.Sprintf("Clear: %s, nothing a visitor would miss.%s", words.Count(looks.Done, "look"), movedOn(findings))
	case VerdictNotChecked:
		for _, f := range findings {
			if f.Host == "" && f.notAskedHost() {
				return fmt.Sprintf("Not checked: %s.", f.Title)
			}
			if f.Host != "" {
				return fmt.Sprintf("Not checked: %s was not asked, since the site does not list it. Add the host to the site and look again.", f.Host)
			}
			if f.WantsNewMark() {
				return "Not checked: pictures were not compared, since another browser or other fonts draw them than the mark's. Take a new mark."
			}
			if f.Kind == NotCheckedKind && f.Severity != Note {
				return fmt.Sprintf("Not checked: %s could not be looked at (%s: %s).", words.Count(max(looks.Failed, 1), "page"), f.Page, lowerFirst(f.Title))
			}
		}
		return fmt.Sprintf("Not checked: %d of %s were made.", looks.Done, words.Count(looks.Planned, "look"))
	}
	want := Broken
	word := "Broken"
	if v == VerdictUnsure {
		want, word = Unsure, "Unsure"
	}
	worst, pages, devices, personas := worstCause(findings, want)
	who := "visitors"
	if len(personas) == 1 && personas[0] != "visitor" {
		who = personas[0]
	}
	if len(devices) == 1 {
		who = devices[0] + " " + who
	}
	more := ""
	if n := causes(findings, want) - 1; n > 0 {
		more = fmt.Sprintf(" And %s.", words.Count(n, "more cause"))
	}
	proof := ""
	if worst.Control != nil && worst.Control.Outcome != NotMade {
		proof = " " + worst.Control.String()
	}
	return fmt.Sprintf("%s for %s on %s: %s.%s%s", word, who, where(pages), said(worst, findings), proof, more)
}

// said is what happened, in a sentence. What is loaded otherwise is said with what comes of it,
// since that is what people see.
func said(worst Finding, findings []Finding) string {
	title := lowerFirst(strings.TrimSuffix(worst.Title, "."))
	if !strings.Contains(worst.Part, notAsked) {
		return title
	}
	seen := -1
	for i, f := range findings {
		if f.Cause != worst.Cause || !f.Symptom || f.Severity == Note {
			continue
		}
		if seen < 0 || slices.Index(order, f.Kind) < slices.Index(order, findings[seen].Kind) {
			seen = i
		}
	}
	if seen < 0 {
		return title
	}
	return fmt.Sprintf("%s, since %s", lowerFirst(strings.TrimSuffix(findings[seen].Title, ".")), title)
}

// movedOn says on how many pages the site itself is otherwise than at the mark.
func movedOn(findings []Finding) string {
	var pages []string
	for _, f := range findings {
		if f.SiteMovedOn() {
			pages = append(pages, f.Page)
		}
	}
	if len(pages) == 0 {
		return ""
	}
	return fmt.Sprintf(" The site itself has moved on, on %s.", where(unique(pages)))
}

func where(pages []string) string {
	if len(pages) == 1 {
		return pages[0]
	}
	return words.Count(len(pages), "page")
}

// order puts the kinds that explain most first: a script error explains the journey
// it broke, a journey explains the picture.
var order = []Kind{LeakKind, VariantKind, PolicyKind, JourneyKind, ScriptErrorKind, MissingKind, ShiftKind, ContentKind, PictureKind, RequestKind, NotCheckedKind}

func worstCause(findings []Finding, want Severity) (worst Finding, pages, devices, personas []string) {
	best := 2*len(order) + 1
	for _, f := range findings {
		rank := slices.Index(order, f.Kind)
		if f.Symptom {
			rank += len(order) // what it comes of is said, when that is a finding
		}
		if f.Severity == want && rank < best {
			best, worst = rank, f
		}
	}
	for _, f := range findings {
		if f.Severity == want && f.Cause == worst.Cause {
			pages, devices, personas = append(pages, f.Page), append(devices, f.Device), append(personas, f.Persona)
		}
	}
	return worst, unique(pages), unique(devices), unique(personas)
}

func causes(findings []Finding, want Severity) int {
	seen := map[string]bool{}
	for _, f := range findings {
		if f.Severity == want {
			seen[f.Cause] = true
		}
	}
	return len(seen)
}

func unique(list []string) []string {
	slices.Sort(list)
	return slices.Compact(list)
}

func lowerFirst(s string) string {
	if len(s) > 1 && s[0] >= 'A' && s[0] <= 'Z' && (s[1] < 'A' || s[1] > 'Z') {
		return strings.ToLower(s[:1]) + s[1:]
	}
	return s
}

// notAskedHost reports whether a finding is about a host that was not asked: one that the site does not list ([Finding.Host]), or one that
// only Tide Marker could not reach.
func (f Finding) notAskedHost() bool {
	return f.Kind == NotCheckedKind && strings.HasPrefix(f.Cause, hostCause("")) && !f.Symptom
}

// Sort orders findings by cause: what was not asked before any fault of the site's, then the
// worst first, then by how much the cause's kind explains; within a cause, what comes of it
// after itself.
func Sort(findings []Finding) {
	weight := map[Severity]int{Broken: 0, Unsure: 1, Note: 2}
	type rank struct{ host, weight, kind int }
	causes := map[string]rank{}
	for _, f := range findings {
		is := rank{1, weight[f.Severity], slices.Index(order, f.Kind)}
		if f.notAskedHost() {
			is.host = 0
		}
		if f.Symptom {
			is.kind += len(order)
		}
		had, there := causes[f.Cause]
		if there {
			is = rank{min(is.host, had.host), min(is.weight, had.weight), min(is.kind, had.kind)}
		}
		causes[f.Cause] = is
	}
	slices.SortStableFunc(findings, func(a, b Finding) int {
		x, y := causes[a.Cause], causes[b.Cause]
		symptom := map[bool]int{true: 1}
		return cmp.Or(x.host-y.host, x.weight-y.weight, x.kind-y.kind, strings.Compare(a.Cause, b.Cause), symptom[a.Symptom]-symptom[b.Symptom],
			weight[a.Severity]-weight[b.Severity], slices.Index(order, a.Kind)-slices.Index(order, b.Kind),
			strings.Compare(a.Page+a.Persona+a.Device, b.Page+b.Persona+b.Device))
	})
}
