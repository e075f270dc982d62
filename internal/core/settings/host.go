package settings

import (
	"fmt"
	"slices"
)

// Facts is what a host offers, by the names that a setting's needs use:
// memoryStore, rewriteRules, gzip, brotli, http2, notShared.
type Facts map[string]bool

// Optimiser is another tool on the site that does part of the same work.
type Optimiser struct {
	Name string `json:"name"`
	Does []Role `json:"does"`
}

// Host is what a site stands on, and what else works there.
type Host struct {
	Facts  Facts
	Others []Optimiser
}

// families are the roles that work on the same thing, so that two tools with roles of
// one family get in each other's way without doing exactly the same.
var families = [][]Role{
	{"page-cache", "page-cache-ttl", "page-cache-store", "page-cache-device-variants", "page-cache-logged-in", "page-cache-not-modified", "page-cache-serve-stale", "warm", "warm-interval"},
	{"browser-cache", "browser-cache-ttl"},
	{"css-minify", "css-combine", "css-async", "css-drop-unused"},
	{"js-minify", "js-combine", "js-defer", "js-delay", "js-inline"},
	{"lazy-images", "lazy-skip-first", "add-dimensions", "preload-key-image", "image-convert", "image-resize"},
	{"font-self-host", "font-swap", "font-preload"},
	{"prefetch-links", "prefetch-hosts"},
}

// Overlaps tells whether two different roles work on the same thing.
func (r Role) Overlaps(other Role) bool {
	return r != other && slices.ContainsFunc(families, func(f []Role) bool { return slices.Contains(f, r) && slices.Contains(f, other) })
}

// collisions are what follows from other tools for one setting that does something:
// the same work done twice blocks, work on the same thing warns.
func (h Host) collisions(d Definition) []Consequence {
	var out []Consequence
	for _, o := range h.Others {
		switch {
		case slices.Contains(o.Does, d.Role):
			out = append(out, Consequence{Kind: Collides, Key: d.Key, Other: o.Name, Blocks: true, Mend: &Edit{d.Key, off(d)},
				Text: fmt.Sprintf("%s: “%s” on this site does the same work already. Done twice, each undoes the other; leave it to one of them.", d.Title, o.Name)})
		case slices.ContainsFunc(o.Does, d.Role.Overlaps):
			out = append(out, Consequence{Kind: Collides, Key: d.Key, Other: o.Name,
				Text: fmt.Sprintf("%s: “%s” on this site works on the same thing. Look closely at the check.", d.Title, o.Name)})
		}
	}
	return out
}

// Lacking says for each setting that the host cannot carry why, and what would do
// instead; by key. A choice is in it only when none of its other values could be
// carried either.
func (c Catalogue) Lacking(h Host) map[string]string {
	out := map[string]string{}
	for _, d := range c.Settings {
		for _, need := range d.Needs {
			if !h.Facts[need] {
				out[d.Key] = fmt.Sprintf("It needs %s, which this host does not have. %s", Ability(need), c.instead(d, need, h))
				break
			}
		}
	}
	return out
}

// instead says what does the work of something that the host cannot carry.
func (c Catalogue) instead(d Definition, need string, h Host) string {
	for _, o := range d.Choices {
		if slices.ContainsFunc(o.Needs, func(n string) bool { return !h.Facts[n] }) || Equal(o.Value, "off") {
			continue
		}
		return fmt.Sprintf("“%s” works here.", o.Title)
	}
	for _, other := range c.Settings {
		if other.Key == d.Key || !other.Role.Overlaps(d.Role) || other.Type != Switch || slices.ContainsFunc(other.Needs, func(n string) bool { return !h.Facts[n] }) {
			continue
		}
		return fmt.Sprintf("“%s” works here and goes part of the way.", other.Title)
	}
	switch need {
	case "brotli":
		return "Compression with gzip goes most of the way."
	case "memoryStore":
		return "Holding pages on disk goes most of the way."
	case "rewriteRules":
		return "The host's administrator can set the same in the server's configuration."
	case "http2":
		return "Fewer files, combined, go part of the way."
	case "notShared":
		return "On shared hosting it would slow the neighbours down; a dedicated host could."
	}
	return "The host can say whether it is available."
}
