// Package rollout says how a change that settled on one site goes on to others: copied to each, tried on each one's staging, side
// by side, and promoted in waves that stop at the first site on which it is not clear.
//
// A [Plan] is what a rollout has come to, read off the changes of its sites; [Next] is what follows. Nothing here remembers: a
// process that is killed between two steps leaves a plan from which the same step follows.
package rollout

import (
	"fmt"

	"tidemarker/internal/core/evidence"
	"tidemarker/internal/core/release"
)

// State says how far a rollout has come.
type State string

// The states.
const (
	Open    State = "open"    // it is tried on stagings; nothing is promoted until somebody says so
	Going   State = "going"   // waves are promoted
	Stopped State = "stopped" // at a site on which it is not clear, or by a person
	Ended   State = "ended"   // it is everywhere, or a person ended it
)

// Over tells whether nothing more follows by itself.
func (s State) Over() bool { return s == Ended }

// Pace says when a wave is followed by the next.
type Pace string

// The paces.
const (
	AfterCheck Pace = "check" // when each site's check on production is clear
	AfterWatch Pace = "watch" // when each site's watch is over, too, and the change settled
)

// Stage says how far a site has come.
type Stage string

// The stages, in their order.
const (
	Waiting   Stage = "waiting"    // its change is not begun yet, or not tried
	Trying    Stage = "trying"     // on staging
	NotClear  Stage = "not clear"  // staging's check is not clear: a person has to look
	Tried     Stage = "tried"      // clear on staging
	Promoting Stage = "promoting"  // a promotion is under way
	Broken    Stage = "broken"     // on production it is not clear, could not be promoted, or went back
	There     Stage = "there"      // production has it, and the check is clear
	Settled   Stage = "settled"    // and its watch is over
	Skipped   Stage = "skipped"    // by a person
	Discarded Stage = "discarded"  // its change was discarded
	Nothing   Stage = "has it all" // the site has these settings already
)

// Stages are all of them.
var Stages = []Stage{Waiting, Trying, NotClear, Tried, Promoting, Broken, There, Settled, Skipped, Discarded, Nothing}

// Seen is what a site's change has come to.
type Seen struct {
	Begun    bool // it has a change
	Skipped  bool
	Nothing  bool // no edit was left for it
	State    release.State
	Verdict  evidence.Verdict // of the last try that is over, "" when there is none
	Failed   bool             // a promotion failed since somebody let the waves go last
	WatchSaw bool             // its watch waits for a person
}

// StageOf is the stage of a site.
func StageOf(s Seen) Stage {
	switch {
	case s.Skipped:
		return Skipped
	case s.Nothing:
		return Nothing
	case !s.Begun:
		return Waiting
	}
	switch s.State {
	case release.Drafted:
		if s.Verdict != "" { // it was tried, and taken off staging again
			return NotClear
		}
		return Waiting
	case release.Trying:
		return Trying
	case release.Checked:
		switch {
		case s.Failed:
			return Broken
		case s.Verdict == evidence.VerdictClear:
			return Tried
		}
		return NotClear
	case release.Promoting:
		return Promoting
	case release.Marked:
		if s.WatchSaw {
			return Broken
		}
		return There
	case release.Settled:
		return Settled
	case release.Discarded:
		return Discarded
	case release.Promoted, release.RollingBack, release.Restored, release.RolledBack:
		return Broken
	}
	return NotClear // on staging, without a check
}

// Member is a site of a rollout.
type Member struct {
	Site  int64
	Wave  int // the first is 1
	Stage Stage
}

// through tells whether a wave need not wait for a site any more.
func (m Member) through(p Pace) bool {
	switch m.Stage {
	case Skipped, Discarded, Nothing, Settled:
		return true
	case There:
		return p == AfterCheck
	}
	return false
}

// Plan is what a rollout has come to.
type Plan struct {
	State   State
	Pace    Pace
	Members []Member
}

// Wave is the wave that is promoted now, or next; 0 when all are through.
func (p Plan) Wave() int {
	wave := 0
	for _, m := range p.Members {
		if !m.through(p.Pace) && (wave == 0 || m.Wave < wave) {
			wave = m.Wave
		}
	}
	return wave
}

// Step is what follows.
type Step struct {
	Try     []int64 // sites on whose staging the change is to be tried
	Promote []int64 // sites on which it is to be promoted
	Stop    []int64 // sites for which nothing more is promoted: not clear there
	Done    bool    // all are through
}

// Next is what follows from a plan. Sites are tried as soon as they can, whatever the waves do, since staging hurts nobody. A site
// is promoted while waves go, when all of the waves before its own are through and nothing is broken anywhere.
func Next(p Plan) (s Step) {
	if p.State.Over() || len(p.Members) == 0 {
		return s
	}
	for _, m := range p.Members {
		if m.Stage == Waiting {
			s.Try = append(s.Try, m.Site)
		}
	}
	wave := p.Wave()
	if wave == 0 {
		s.Done = true
		return s
	}
	if p.State != Going {
		return s
	}
	for _, m := range p.Members {
		if m.Stage == Broken {
			s.Stop = append(s.Stop, m.Site)
		}
	}
	if len(s.Stop) > 0 {
		return s
	}
	for _, m := range p.Members {
		if m.Wave == wave && m.Stage == Tried {
			s.Promote = append(s.Promote, m.Site)
		}
	}
	return s
}

// MayGo says why waves cannot go, "" when they can.
func MayGo(p Plan) string {
	wave := p.Wave()
	if p.State == Ended {
		return "The rollout is over."
	}
	if wave == 0 {
		return "It is through on all sites."
	}
	tried := false
	for _, m := range p.Members {
		switch {
		case m.Stage == Broken:
			return "It is not clear on production everywhere. Fix that, or skip the site."
		case m.Wave == wave:
			tried = tried || m.Stage == Tried || m.Stage == Promoting || m.Stage == There
		}
	}
	if !tried {
		return fmt.Sprintf("No site of wave %d is clear on staging yet.", wave)
	}
	return ""
}

// Waves puts sites into waves when nobody says otherwise: one, then up to three, then all others.
func Waves(sites []int64) map[int64]int {
	out := map[int64]int{}
	for i, s := range sites {
		out[s] = 1 + min(i, 1) + min(i/4, 1)
	}
	return out
}
