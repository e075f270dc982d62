package settings

import (
	"encoding/json"
	"fmt"
)

// Copied is a revision on its way to another site: what each setting means, and its
// value, with what was excluded and why.
type Copied struct {
	Format      string            `json:"format"` // CopiedFormat
	Site        string            `json:"site"`
	Software    string            `json:"software,omitempty"`
	Fingerprint string            `json:"fingerprint"`
	Settings    []CopiedSetting   `json:"settings"`
	Exclusions  []CopiedExclusion `json:"exclusions"`
}

// CopiedFormat names the form of the document; docs/contract/copied-settings.schema.json
// is its schema.
const CopiedFormat = "tide-marker-copied-settings-1"

// CopiedSetting is one value and what it means.
type CopiedSetting struct {
	Key   string `json:"key"`
	Title string `json:"title"`
	Role  Role   `json:"role"`
	Type  Type   `json:"type" enum:"switch,whole,seconds,choice,patterns,text"`
	Value any    `json:"value"`
}

// CopiedExclusion is one thing excluded.
type CopiedExclusion struct {
	Role    Role   `json:"role"`
	Pattern string `json:"pattern"`
	Reason  string `json:"reason"`
}

// CopyOf makes a document of a revision.
func CopyOf(site, software string, c Catalogue, v Values, left []CopiedExclusion) (Copied, error) {
	fp, err := v.Fingerprint()
	if err != nil {
		return Copied{}, err
	}
	out := Copied{Format: CopiedFormat, Site: site, Software: software, Fingerprint: fp, Settings: []CopiedSetting{}, Exclusions: left}
	if out.Exclusions == nil {
		out.Exclusions = []CopiedExclusion{}
	}
	for _, d := range c.Settings {
		if value, there := v[d.Key]; there {
			out.Settings = append(out.Settings, CopiedSetting{d.Key, d.Title, d.Role, d.Type, value})
		}
	}
	return out, nil
}

// ParseCopied reads such a document.
func ParseCopied(raw []byte) (Copied, error) {
	var c Copied
	if err := json.Unmarshal(raw, &c); err != nil {
		return c, fmt.Errorf("this is not a document of copied settings: %w", err)
	}
	if c.Format != CopiedFormat {
		return c, fmt.Errorf("this is not a document of copied settings: its format is %q, not %q", c.Format, CopiedFormat)
	}
	return c, nil
}

// Mapped is a setting of one site and its counterpart on another.
type Mapped struct {
	From    CopiedSetting `json:"from"`
	Key     string        `json:"key"`
	Title   string        `json:"title"`
	Now     any           `json:"now"`
	Value   any           `json:"value"`
	Confirm bool          `json:"confirm" doc:"It names addresses, cookies or scripts of the other site; somebody has to say that they are right here."`
}

// Fit is what a copied revision means on another site.
type Fit struct {
	Mapped  []Mapped `json:"mapped" doc:"Only what would change something."`
	Same    int      `json:"same" doc:"How many settings have the value already."`
	Without []Unmet  `json:"without" doc:"What has no counterpart, or does not fit."`
}

// Fit maps a copied revision: a setting to the one of the same key, role and type, else to the only one of its role. Where
// several settings share a role, and where what they hold is of the other site's own, nothing is guessed.
func (c Catalogue) Fit(from Copied, now Values, h Host) Fit {
	return c.fit(from, func(s CopiedSetting, _ string) (any, bool) { return s.Value, true }, now, h)
}

// FitEdits is Fit of what a change edited, from base on. Of lists of patterns it is what the change added and took away that is
// copied, not the list: the other site keeps its own.
func (c Catalogue) FitEdits(from Copied, base, edits, now Values, h Host) Fit {
	return c.fit(from, func(s CopiedSetting, here string) (any, bool) {
		_, edited := edits[s.Key]
		if !edited || s.Type != Patterns {
			return s.Value, edited
		}
		list := []any{}
		for _, p := range moved(base.Strings(s.Key), Values{s.Key: s.Value}.Strings(s.Key), now.Strings(here)) {
			list = append(list, p)
		}
		return list, true
	}, now, h)
}

// fit maps what take takes, as the value that a setting of this catalogue is to have.
func (c Catalogue) fit(from Copied, take func(s CopiedSetting, here string) (any, bool), now Values, h Host) Fit {
	out := Fit{Mapped: []Mapped{}, Without: []Unmet{}}
	miss := func(s CopiedSetting, why string) {
		out.Without = append(out.Without, Unmet{s.Role, fmt.Sprintf("%s (%s): %s", s.Title, s.Key, why)})
	}
	shared := map[Role]int{}
	for _, s := range from.Settings {
		shared[s.Role]++
	}
	for _, s := range from.Settings {
		if _, asked := take(s, ""); !asked {
			continue
		}
		defs := c.WithRole(s.Role)
		same, there := c.Find(s.Key)
		there = there && same.Role == s.Role && same.Type == s.Type
		if there {
			defs = []Definition{same}
		}
		switch {
		case s.Role == "tidy" || s.Role == "other":
			miss(s, "it is not copied.")
			continue
		case len(defs) == 0:
			miss(s, "this site has no setting for it.")
			continue
		case len(defs) > 1 || shared[s.Role] > 1 && !there:
			miss(s, "several settings share its meaning; set it by hand.")
			continue
		}
		d := defs[0]
		wanted, _ := take(s, d.Key)
		value, why := d.fitting(wanted, h)
		if why == "" && d.Type == Choice && d.Type != s.Type {
			why = "its values have other names here."
		}
		if why == "" {
			for _, need := range needsOf(d, value) {
				if d.Active(value) && !h.Facts[need] {
					why = fmt.Sprintf("it needs %s, which this host does not have. %s", Ability(need), c.instead(d, need, h))
				}
			}
		}
		if why != "" {
			miss(s, why)
			continue
		}
		if Equal(now[d.Key], value) {
			out.Same++
			continue
		}
		out.Mapped = append(out.Mapped, Mapped{s, d.Key, d.Title, now[d.Key], value, d.Type == Patterns || d.Type == Text})
	}
	return out
}
