package settings

import (
	"testing"

	"github.com/stretchr/testify/assert"
)

func TestARiskProfileCountsWhatIsInUse(t *testing.T) {
	t.Parallel()
	cat := Catalogue{Settings: []Definition{
		{Key: "a", Type: Switch, Default: true, Risk: 2},
		{Key: "b", Type: Switch, Default: false, Risk: 2},
		{Key: "c", Type: Choice, Default: "off", Risk: 3},
		{Key: "d", Type: Whole, Default: 3.0, Risk: 1},
		{Key: "e", Type: Patterns, Default: []any{}, Risk: 3},
		{Key: "f", Type: Switch, Default: false, Risk: 9},
	}}
	for name, c := range map[string]struct {
		values Values
		want   RiskProfile
	}{
		"nothing is in use": {Values{"a": false, "c": "off", "d": 3.0}, RiskProfile{}},
		"a switch counts when it is on, whatever it was":    {Values{"a": true, "b": false}, RiskProfile{0, 0, 1, 0}},
		"a choice and a number count when they were chosen": {Values{"c": "hard", "d": 4.0}, RiskProfile{0, 1, 0, 1}},
		"what is excluded makes nothing bolder":             {Values{"e": []any{"/x.js"}, "d": 3.0}, RiskProfile{}},
		"a risk beyond the scale is the highest":            {Values{"f": true}, RiskProfile{0, 0, 0, 1}},
		"what the catalogue has not is not judged":          {Values{"z": true}, RiskProfile{}},
	} {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			assert.Equal(t, c.want, ProfileOf(cat, c.values))
		})
	}
}
