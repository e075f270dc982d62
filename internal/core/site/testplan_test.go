package site

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"tidemarker/internal/core/journey"
)

func TestWhatIsWatchedIsReadAsAFileIsAndToldInWords(t *testing.T) {
	before, err := Parse([]byte(guarded))
	require.NoError(t, err)
	same, told, err := before.TestPlan(before.Redacted())
	require.NoError(t, err)
	assert.Empty(t, told, "what comes back as it went out is no change")
	assert.Equal(t, before, same, "with what was not told, and with its token")
	assert.Equal(t, before.Version(), same.Version())

	for want, change := range map[string]func(*Site){
		"page /kits added": func(s *Site) { s.Pages = append(s.Pages, Page{Path: "/kits"}) },
		"page / changed":   func(s *Site) { s.Pages = []Page{{Path: "/", Class: "home"}} },
		"pages /a, /b added": func(s *Site) {
			s.Pages = append(s.Pages, Page{Path: "/a"}, Page{Path: "/b"})
		},
		"4 pages added": func(s *Site) {
			s.Pages = append(s.Pages, Page{Path: "/a"}, Page{Path: "/b"}, Page{Path: "/c"}, Page{Path: "/d"})
		},
		"persona bo removed": func(s *Site) { s.Personas = s.Personas[:1] },
		"journey “in” removed; edit “lead” changed": func(s *Site) { s.Journeys = nil; s.Publishing[0].Shows[0].Within = 5 },
		"journey “out” added; journey “in” removed": func(s *Site) { s.Journeys = []journey.Journey{{Name: "out", Steps: []journey.Step{{Go: "/"}}}} },
		"persona ada changed":                       func(s *Site) { s.Personas[0].PrivateTexts = []string{"Ada"} },
	} {
		to, err := Parse([]byte(guarded)) // another one, so that nothing is shared
		require.NoError(t, err)
		change(&to)
		to.Name, to.Environments = "Another", nil // not what is in the test plan
		now, told, err := before.TestPlan(to.Redacted())
		require.NoError(t, err, want)
		assert.Equal(t, want, told)
		assert.Equal(t, "Guarded", now.Name)
		assert.Equal(t, before.Environments, now.Environments)
		assert.NotEqual(t, before.Version(), now.Version(), want)
	}
}

func TestWhatCannotBeWatchedChangesNothing(t *testing.T) {
	before, err := Parse([]byte(guarded))
	require.NoError(t, err)
	for want, change := range map[string]func(*Site){
		"pages":                             func(s *Site) { s.Pages = nil },
		"/pages/0/path":                     func(s *Site) { s.Pages = []Page{{Path: "kits"}} },
		`the path "/" is there twice`:       func(s *Site) { s.Pages = append(s.Pages, s.Pages[0]) },
		`there is no persona "eve"`:         func(s *Site) { s.Journeys[0].Persona = "eve" },
		`"/gone" is not one of the pages`:   func(s *Site) { s.Publishing[0].Shows[0].Page = "/gone" },
		"getting ready as eve":              func(s *Site) { s.Personas[0].Name = "eve" },
		"the field “Pass code”, getting re": func(s *Site) { s.Personas[0].Prepare[1].Fill.In.Label = "Pass code" },
	} {
		to, err := Parse([]byte(guarded))
		require.NoError(t, err)
		change(&to)
		now, told, err := before.TestPlan(to.Redacted())
		require.ErrorContains(t, err, want)
		assert.Empty(t, told)
		assert.Equal(t, before, now)
	}
}

func TestASecretHasNoPartInTheVersion(t *testing.T) {
	s, err := Parse([]byte(guarded))
	require.NoError(t, err)
	version := s.Version()
	other := s.MarkSensitive() // rows of their own
	other.Personas[0].Prepare[1] = journey.Step{Fill: &journey.Input{In: journey.Target{Label: "Password"}, Value: "another", Secret: true}}
	assert.Equal(t, version, other.Version(), "nobody finds a password by trying")
	assert.Len(t, version, 64)
}

// What the test plan does not say stays: budgets that are not told, and whether culprits are searched for at once.
func TestWhatIsNotToldStays(t *testing.T) {
	most := 2500.0
	before := Site{Name: "Moss", FindCulprit: true, Environments: []Environment{{Name: "staging", URL: "https://moss.example"}}, Pages: []Page{{Path: "/"}}, Budgets: []Budget{{Metric: "largest-contentful-paint", Most: &most, Device: Phone}}}
	before, err := before.Read()
	require.NoError(t, err)
	now, told, err := before.TestPlan(Site{Pages: before.Pages})
	require.NoError(t, err)
	assert.True(t, now.FindCulprit)
	assert.Equal(t, before.Budgets, now.Budgets)
	assert.Empty(t, told)
	now, told, err = before.TestPlan(Site{Pages: before.Pages, Budgets: []Budget{}})
	require.NoError(t, err)
	assert.Empty(t, now.Budgets)
	assert.Contains(t, told, "budget of the largest-contentful-paint, phone")
	_, _, err = before.TestPlan(Site{Pages: before.Pages, Budgets: []Budget{{Metric: "largest-contentful-paint"}}})
	assert.ErrorContains(t, err, "/budgets/0", "neither how much nor over what")
}
