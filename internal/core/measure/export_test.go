package measure_test

import (
	"encoding/csv"
	"encoding/xml"
	"regexp"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"tidemarker/internal/core/measure"
)

// TestCSV: every load with its numbers, those that do not count too; what a page is called is no formula.
func TestCSV(t *testing.T) {
	raw, err := measure.CSV([]measure.Load{load(measure.Before, 1, "/kits", 1234.5), load(measure.After, 1, "/kits", 900, func(l *measure.Load) { l.Dropped, l.Element = "=it was lost", "h1, big" })})
	require.NoError(t, err)
	rows, err := csv.NewReader(strings.NewReader(string(raw))).ReadAll()
	require.NoError(t, err)
	require.Len(t, rows, 3)
	of := func(row int, name string) string {
		for i, h := range rows[0] {
			if h == name {
				return rows[row][i]
			}
		}
		return "no column " + name
	}
	assert.Equal(t, "1234.5", of(1, "largest-contentful-paint ms"))
	assert.Empty(t, of(1, "requests"))
	assert.Equal(t, "yes", of(1, "counts"))
	assert.Equal(t, "'=it was lost", of(2, "why not"))
	assert.Equal(t, "h1, big", of(2, "largest element"))
}

func reported() ([]measure.Comparison, []measure.BudgetResult) {
	of := measure.Case{Device: "phone", Persona: "visitor", Visit: measure.First}
	return []measure.Comparison{
		{Metric: measure.Largest, Title: "largest paint", Unit: "ms", Case: of, Before: 2000, After: 2500, Shift: 500, Low: 450, High: 550, Result: measure.Worse},
		{Metric: measure.FirstPaint, Title: "first paint", Unit: "ms", Case: of, Result: measure.TooNoisy},
		{Metric: measure.Requests, Title: "requests", Unit: "1", Case: of, Result: measure.Better},
		{Metric: measure.Largest, Title: "largest paint", Unit: "ms", Page: `/say"hi"`, Case: of, Before: 2000, After: 2500},
		{Metric: measure.Requests, Title: "requests", Unit: "1", Page: "/kits", Case: of, Before: 12, After: 5},
	}, []measure.BudgetResult{{Budget: "largest paint at most 2.0 s", Page: "/kits", Device: "phone", Outcome: measure.Exceeded, Why: "2.5 s <of> 5"}, {Budget: "load", Page: "/kits", Outcome: measure.Unsure}, {Budget: "x", Outcome: measure.Held}}
}

// TestJUnit: what is worse or exceeded fails, what is not sure is skipped.
func TestJUnit(t *testing.T) {
	list, budgets := reported()
	raw, err := measure.JUnit("Moss & Fern", list, budgets)
	require.NoError(t, err)
	var s struct {
		Name     string `xml:"name,attr"`
		Tests    int    `xml:"tests,attr"`
		Failures int    `xml:"failures,attr"`
		Skipped  int    `xml:"skipped,attr"`
		Cases    []struct {
			Name    string `xml:"name,attr"`
			Failure *struct {
				Message string `xml:"message,attr"`
			} `xml:"failure"`
		} `xml:"testcase"`
	}
	require.NoError(t, xml.Unmarshal(raw, &s))
	assert.Equal(t, []any{"Moss & Fern", 6, 2, 2}, []any{s.Name, s.Tests, s.Failures, s.Skipped})
	require.NotNil(t, s.Cases[0].Failure)
	assert.Contains(t, s.Cases[0].Failure.Message, "+500 ms")
	assert.Nil(t, s.Cases[2].Failure)
}

// TestOpenMetrics holds what is written against the grammar of OpenMetrics 1.0: each family with its type and unit before
// its samples, base units, escaped labels, and the end.
func TestOpenMetrics(t *testing.T) {
	list, _ := reported()
	text := string(measure.OpenMetrics("Moss", list))
	lines := strings.Split(strings.TrimSuffix(text, "\n"), "\n")
	assert.Equal(t, "# EOF", lines[len(lines)-1])
	sample := regexp.MustCompile(`^[a-z_]+\{([a-z_]+="(?:[^"\\\n]|\\["\\n])*",?)+\} [0-9.e+-]+$`)
	family := regexp.MustCompile(`^# (TYPE|UNIT|HELP) [a-z_]+ .+$`)
	for _, l := range lines[:len(lines)-1] {
		assert.True(t, sample.MatchString(l) || family.MatchString(l), l)
	}
	assert.Contains(t, text, `tidemarker_largest_contentful_paint_seconds{site="Moss",page="/say\"hi\"",device="phone",persona="visitor",visit="first",page_cache="yes",side="after"} 2.5`)
	assert.Contains(t, text, "# UNIT tidemarker_largest_contentful_paint_seconds seconds\n")
	assert.Contains(t, text, `tidemarker_requests{site="Moss",page="/kits"`)
}
