package evidence

// Accepted is what somebody decided on: a finding as it was seen, at one place or wherever
// it shows. It stands for nothing else: the same part of a page with something else the matter
// is another difference.
type Accepted struct {
	Kind     Kind     `json:"kind"`
	Part     string   `json:"part" doc:"What it was found with, by itself."`
	Title    string   `json:"title"`
	Severity Severity `json:"severity"`
	Page     string   `json:"page,omitempty" doc:"\"\" for every page, persona and device."`
	Persona  string   `json:"persona,omitempty"`
	Device   string   `json:"device,omitempty"`
	Journey  string   `json:"journey,omitempty"`
}

// AsAccepted is what accepting a finding decides on; everywhere leaves out where it was seen.
func (f Finding) AsAccepted(everywhere bool) Accepted {
	d := Accepted{Kind: f.Kind, Part: f.Part, Title: f.Title, Severity: f.Severity}
	if !everywhere {
		d.Page, d.Persona, d.Device, d.Journey = f.Page, f.Persona, f.Device, f.Journey
	}
	return d
}

// Covers tells whether a finding is the difference that was decided on: the same kind, part
// and title, no worse, and where it was decided for one place, there.
func (d Accepted) Covers(f Finding) bool {
	here := d.Page == "" || d.Page == f.Page && d.Persona == f.Persona && d.Device == f.Device && d.Journey == f.Journey
	worse := d.Severity == Unsure && f.Severity == Broken
	return here && !worse && d.Part != "" && d.Kind == f.Kind && d.Part == f.Part && d.Title == f.Title
}

// Lasts tells whether findings of a kind can be accepted for longer than one run. What is
// shown to somebody whom it does not belong to, and what could not be looked at, cannot.
func (k Kind) Lasts() bool {
	return k != LeakKind && k != VariantKind && k != NotCheckedKind
}

// MostOf tells whether the element that a path finds is more than half of the page.
func (p PageLook) MostOf(path string) bool {
	i, there := p.box(path)
	return there && p.covers(i)
}
