package culprit

import "tidemarker/internal/core/sequential"

const (
	// byChance is how often something shows that the settings do not do; atLeast is how often it
	// shows at least that they do.
	byChance, atLeast, always = 0.02, 0.5, 0.98
	// drawnByChance is how often a page is drawn otherwise without the settings doing it, where letterings and late
	// styles race. A cautious bound, not a measurement.
	drawnByChance = 0.2
)

// TestOf is the sequential test that decides whether what is sought shows with some edits. rate is how often it showed with
// all of them, 0 to 1; drawn says that nothing has shown so far but how a page is drawn. Where all edits together do it each
// time, a single round that shows no more than that decides nothing.
func TestOf(rate float64, drawn bool) sequential.Test {
	t := sequential.Test{Lower: byChance, Upper: min(always, max(atLeast, rate)), Alpha: 0.05, Beta: 0.05}
	if drawn && t.Upper == always {
		t.Lower = drawnByChance
	}
	return t
}
