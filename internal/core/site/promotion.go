package site

import (
	"fmt"
	"strings"
	"time"

	"tidemarker/internal/core/words"
)

// Promotion is what holds for a site's promotions.
type Promotion struct {
	ByAnother bool    `json:"byAnother,omitempty" doc:"Nobody approves a change of their own."`
	Watch     *Watch  `json:"watch,omitempty" doc:"For how long each promotion is watched; absent: 24 hours."`
	GoBack    *GoBack `json:"goBack,omitempty" doc:"When a change is rolled back automatically; absent: never."`
}

// Promotes is what holds for the site's promotions, with what is by default.
func (s Site) Promotes() Promotion {
	if s.Promotion == nil {
		return Promotion{}
	}
	return *s.Promotion
}

// Watch is for how long a promotion is watched.
type Watch struct {
	Hours int `json:"hours" minimum:"0" maximum:"744" doc:"0: it is not watched."`
}

// Watched is for how long a promotion is watched; 0 when it is not.
func (p Promotion) Watched() time.Duration {
	if p.Watch == nil {
		return 24 * time.Hour
	}
	return time.Duration(p.Watch.Hours) * time.Hour
}

// GoBack is when a change goes back by itself. The zero value says never.
type GoBack struct {
	On      bool     `json:"on" doc:"A change is rolled back automatically when a look of its watch finds what is said here."`
	Classes []string `json:"classes,omitempty" doc:"Of pages; none: all."`
	Kinds   []string `json:"kinds,omitempty" doc:"Of findings; none: all that do not work."`
	Proof   Proof    `json:"proof,omitempty" enum:"staging,twice" doc:"How sure. staging: staging shows it, too, with the same settings. twice: two looks in a row found it on production, and it is no news of the site. Absent: staging."`
	Minutes int      `json:"minutes,omitempty" minimum:"0" maximum:"1440" doc:"For how long it is announced, so that somebody may say no; 0: 10 minutes."`
}

// Proof is how sure it has to be that a change breaks something.
type Proof string

// The proofs.
const (
	ByStaging Proof = "staging"
	ByTwice   Proof = "twice"
)

// faults are what the schema of site files cannot see.
func (p Promotion) faults() []string {
	if p.GoBack != nil && p.GoBack.On && p.Watched() == 0 {
		return []string{"promotion: a change goes back by what its watch finds, and promotions are not watched. Give promotion.watch.hours"}
	}
	return nil
}

// Announced is for how long going back is announced.
func (g GoBack) Announced() time.Duration {
	if g.Minutes == 0 {
		return 10 * time.Minute
	}
	return time.Duration(g.Minutes) * time.Minute
}

// Text says the rule in words.
func (p Promotion) Text() string {
	g := p.GoBack
	if g == nil || !g.On {
		return "no change is rolled back automatically"
	}
	pages, kinds, proof := "any page", "anything that does not work", "and staging shows it, too"
	if len(g.Classes) > 0 {
		pages = "pages of the class " + strings.Join(g.Classes, ", ")
	}
	if len(g.Kinds) > 0 {
		kinds = strings.Join(g.Kinds, ", ")
	}
	if g.Proof == ByTwice {
		proof = "twice in a row"
	}
	return fmt.Sprintf("a change is rolled back automatically when a look finds %s on %s %s, %s after that was announced", kinds, pages, proof, words.Span(int(g.Announced().Seconds())))
}
