package evidence

import (
	"fmt"
	"image"
	"strings"
	"time"

	"tidemarker/internal/core/httpcache"
	"tidemarker/internal/core/journey"
	"tidemarker/internal/core/vitals"
)

// Key names what was looked at: a page or a journey, as a persona, on a device.
type Key struct {
	Page    string `json:"page" doc:"Path and query."`
	Journey string `json:"journey,omitempty" doc:"Name, when a journey was taken."`
	Persona string `json:"persona"`
	Device  string `json:"device" enum:"desktop,phone"`
}

// Look is everything seen of one environment in one run.
type Look struct {
	Pages    []PageLook
	Journeys []JourneyLook
	Probes   []Probe
}

// PageLook is what one look at a page yielded.
type PageLook struct {
	Key
	Class     string            `json:"class"`
	Missing   string            `json:"missing,omitempty" doc:"Why it could not be looked at; the rest is empty then."`
	NotReady  bool              `json:"notReady,omitempty" doc:"It is missing because its persona could not be made ready."`
	Attempts  int               `json:"attempts"`
	Address   string            `json:"address" doc:"Where the browser ended up."`
	Status    int               `json:"status"`
	Headers   map[string]string `json:"headers,omitempty" doc:"Of the document; names in lower case; Set-Cookie is left out."`
	Served    httpcache.Served  `json:"served" enum:"cached,stale,origin,bypass,unknown"`
	CacheNote string            `json:"cacheNote,omitempty" doc:"What says how it was served, as it came."`
	Title     string            `json:"title"`
	Picture   *Picture          `json:"picture,omitempty"`
	Renderer  *Renderer         `json:"renderer,omitempty" doc:"What drew the picture."`
	Outline   []Box             `json:"outline,omitempty"`
	Styles    []Style           `json:"styles,omitempty" doc:"How the boxes of the outline are drawn."`
	Lines     []Line            `json:"lines,omitempty"`
	Masked    []Box             `json:"masked,omitempty" doc:"Where the page's own masks lie."`
	Errors    []ScriptError     `json:"errors,omitempty"`
	Console   []string          `json:"console,omitempty"`
	Requests  []Request         `json:"requests,omitempty"`
	Shifts    []vitals.Shift    `json:"shifts,omitempty"`
	Timing    Timing            `json:"timing"`
	Listens   []string          `json:"listens,omitempty" doc:"What listens to what: an element's path and the event's name."`
	Focus     []string          `json:"focus,omitempty" doc:"Paths of the elements that the keyboard reaches, in order."`
	Facts     map[string]string `json:"facts,omitempty" doc:"What the head says: title, description, robots, canonical, structured data."`
	Rules     int               `json:"rules,omitempty" doc:"How many style rules stand in the page itself."`
	Code      int               `json:"code,omitempty" doc:"How many characters of code stand in the page itself."`
	Late      []string          `json:"late,omitempty" doc:"Styles that came without holding up the first drawing."`
	Waits     []string          `json:"waits,omitempty" doc:"Addresses of scripts and styles that stand in the page where nothing loads them."`
	Links     []string          `json:"links,omitempty" doc:"Addresses that it links to, feeds too."`
	Empty     []string          `json:"empty,omitempty" doc:"Pictures that came and have no pixels."`
	Undecoded []string          `json:"undecoded,omitempty" doc:"Pictures that came and could not be decoded."`
	Fonts     []string          `json:"fonts,omitempty" doc:"Fonts that could not be used, so that others stand in."`
	Clock     time.Time         `json:"clock,omitzero" doc:"What the page's clock said when it began to come."`
	Source    *Source           `json:"source,omitempty" doc:"What it was made of, where that was kept."`
	Earlier   []Attempt         `json:"earlier,omitempty" doc:"Attempts that failed before this one."`
	Noted     []string          `json:"noted,omitempty" doc:"What limits left out of the look, and what the browser could not do."`
	Spent     Spent             `json:"spent,omitzero" doc:"Where the time of the look went."`
}

// Attempt is what is kept of an attempt to look that failed.
type Attempt struct {
	Why      string        `json:"why"`
	Errors   []ScriptError `json:"errors,omitempty"`
	Console  []string      `json:"console,omitempty"`
	Requests []Request     `json:"requests,omitempty" doc:"Those that failed or were not sent."`
}

// Spent is where the time of a look went, in milliseconds of real time.
type Spent struct {
	Opening  float64 `json:"opening" doc:"Opening a private browser."`
	Network  float64 `json:"network" doc:"Waiting for the site's answers."`
	Clock    float64 `json:"clock" doc:"The page's own time: its scripts and timers."`
	Waiting  float64 `json:"waiting" doc:"Tide Marker's own waiting, for what had stalled or was held back."`
	Painting float64 `json:"painting" doc:"Frames, decoding, taking the picture."`
	Reading  float64 `json:"reading" doc:"Reading the page's outline, texts and state."`
}

// Total is the whole time, in milliseconds.
func (s Spent) Total() float64 {
	return s.Opening + s.Network + s.Clock + s.Waiting + s.Painting + s.Reading
}

// Source is what a page was made of, as it came; each known by the SHA-256 of its content.
type Source struct {
	Document string            `json:"document"`
	Files    map[string]string `json:"files" doc:"Scripts and style sheets, by address."`
}

// Picture is a full-page picture, known by its content.
type Picture struct {
	SHA256 string `json:"sha256"`
	Width  int    `json:"width"`
	Height int    `json:"height"`
}

// Box is one element of the page's outline, in pixels of the picture.
type Box struct {
	Path   string `json:"path" doc:"A selector that finds it again."`
	Name   string `json:"name,omitempty" doc:"How a person would call it: tag, id or class, name."`
	Parent int    `json:"parent" doc:"Index of the parent box, -1 for the root."`
	X      int    `json:"x"`
	Y      int    `json:"y"`
	Width  int    `json:"width"`
	Height int    `json:"height"`
	Role   string `json:"role,omitempty" doc:"Its role by WAI-ARIA, written or by what element it is."`
	Style  int    `json:"style,omitempty" doc:"Which of the look's styles it is drawn in, from 1; 0 when that is not known."`
	Cut    bool   `json:"cut,omitempty" doc:"Part of what it holds is cut off, or it reaches over the page's edge."`
}

// Style is how an element is drawn.
type Style struct {
	Font       string `json:"font" doc:"Size, family and weight."`
	Colour     string `json:"colour"`
	Background string `json:"background" doc:"Colour or picture behind it, “nothing” when what is under it shows."`
}

// Rect is the box as a rectangle.
func (b Box) Rect() image.Rectangle { return image.Rect(b.X, b.Y, b.X+b.Width, b.Y+b.Height) }

// Line is a piece of visible text and the box it stands in.
type Line struct {
	Text string `json:"text"`
	Box  int    `json:"box"`
}

// ScriptError is an error no script caught.
type ScriptError struct {
	Message string `json:"message"`
	Source  string `json:"source,omitempty" doc:"Address of the script; the page's own for inline code."`
	Line    int    `json:"line,omitempty"`
	// By are the scripts on the stack, the innermost first, each once.
	By []string `json:"by,omitempty"`
}

// Request is one request the page made.
type Request struct {
	URL     string `json:"url"`
	Kind    string `json:"kind" doc:"document, script, stylesheet, image, font, fetch, other."`
	Method  string `json:"method"`
	Status  int    `json:"status,omitempty"`
	Bytes   int    `json:"bytes,omitempty" doc:"Encoded, as transferred."`
	Failed  string `json:"failed,omitempty" doc:"Why no answer came."`
	Kept    bool   `json:"kept,omitempty" doc:"The browser had it from before and did not ask."`
	Keeps   int    `json:"keeps,omitempty" doc:"For how many seconds a browser uses the answer again without asking (RFC 9111 §4.2.1)."`
	From    string `json:"from,omitempty" doc:"Address of the script or style that asked for it; nothing when the page itself did."`
	Later   bool   `json:"later,omitempty" doc:"A script asked for it, not the page as it was read."`
	Shared  string `json:"shared,omitempty" doc:"Whom another host lets use its answer (Access-Control-Allow-Origin), for scripts, styles and fonts."`
	Blocked bool   `json:"blocked,omitempty" doc:"Not sent: the host is not one of the site's, or Tide Marker could not reach it."`
	// Unreachable is about the host alone: no request to it could be made.
	Unreachable string `json:"unreachable,omitempty" doc:"Why its host could not be reached."`
}

// Broken tells whether the request was sent and brought nothing usable.
func (r Request) Broken() bool { return !r.Blocked && (r.Failed != "" || r.Status >= 400) }

// Timing is when things happened, in milliseconds since the navigation began.
type Timing struct {
	FirstByte float64 `json:"firstByte"`
	FirstDraw float64 `json:"firstDraw"`
	Largest   float64 `json:"largest"`
	Loaded    float64 `json:"loaded"`
}

// JourneyLook is what one run of a journey yielded.
type JourneyLook struct {
	Key
	Missing  string          `json:"missing,omitempty"`
	Unready  bool            `json:"unready,omitempty" doc:"It is missing because its persona could not be made ready."`
	Attempts int             `json:"attempts"`
	Outcome  journey.Outcome `json:"outcome"`
	Cookies  []string        `json:"cookies,omitempty" doc:"Names of the cookies that a persona was given while it was made ready."`
	Errors   []ScriptError   `json:"errors,omitempty"`
	Console  []string        `json:"console,omitempty" doc:"Errors that the pages wrote to the console."`
	Earlier  []Attempt       `json:"earlier,omitempty" doc:"Attempts that failed before this one."`
	Requests []Request       `json:"requests,omitempty"`
}

// NotReady says at which step its persona could not be made ready, nil when it was.
func (j JourneyLook) NotReady() error {
	if j.Missing != "" {
		return fmt.Errorf("%s could not be made ready: %s", j.Persona, j.Missing)
	}
	if failed := j.Outcome.Failed(); failed >= 0 {
		return fmt.Errorf("%s could not be made ready: %s: %s", j.Persona, j.Outcome.Steps[failed].Step, j.Outcome.Steps[failed].Why)
	}
	return nil
}

// Pictures gives the pixels of a picture by its SHA-256.
type Pictures func(sha256 string) (*image.NRGBA, error)

// nearest is the index of the smallest box that holds a rectangle, or -1.
func (p PageLook) nearest(r image.Rectangle) int {
	best := -1
	for i, b := range p.Outline {
		if !r.In(b.Rect()) {
			continue
		}
		if best < 0 || area(b.Rect()) <= area(p.Outline[best].Rect()) {
			best = i
		}
	}
	return best
}

func (p PageLook) box(path string) (int, bool) {
	for i, b := range p.Outline {
		if b.Path == path {
			return i, true
		}
	}
	return -1, false
}

// within tells whether a box is, or lies in, one of the paths.
func (p PageLook) within(box int, paths map[string]bool) bool {
	for box >= 0 && box < len(p.Outline) {
		if paths[p.Outline[box].Path] {
			return true
		}
		if next := p.Outline[box].Parent; next < box {
			box = next
		} else {
			return false
		}
	}
	return false
}

func area(r image.Rectangle) int { return r.Dx() * r.Dy() }

// clean folds white space, so that a minified page reads as its source did.
func clean(s string) string { return strings.Join(strings.Fields(s), " ") }
