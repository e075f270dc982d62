package measure

import (
	"bytes"
	"encoding/csv"
	"encoding/xml"
	"fmt"
	"strconv"
	"strings"
)

// CSV is every load with every number, a row each, for spreadsheets and statistics (RFC 4180). Numbers are in the metrics'
// units; what was not measured is empty.
func CSV(loads []Load) ([]byte, error) {
	var out bytes.Buffer
	w := csv.NewWriter(&out)
	head := []string{"round", "side", "page", "journey", "device", "persona", "visit", "page cache", "counts", "why not", "served", "largest element", "effort ms"}
	for _, d := range Definitions {
		name := string(d.Metric)
		if d.Unit != "1" {
			name += " " + d.Unit
		}
		head = append(head, name)
	}
	rows := [][]string{head}
	for _, l := range loads {
		visit := l.Visit
		if visit == "" {
			visit = First
		}
		row := []string{strconv.Itoa(l.Round), string(l.Side), Cell(l.Page), Cell(l.Journey), l.Device, Cell(l.Persona), string(visit), yesNo(!l.Uncached), yesNo(l.Dropped == ""), Cell(l.Dropped), Cell(l.Served), Cell(l.Element), number(l.Effort)}
		for _, d := range Definitions {
			v, measured := l.Values[d.Metric]
			if !measured {
				row = append(row, "")
				continue
			}
			row = append(row, number(v))
		}
		rows = append(rows, row)
	}
	err := w.WriteAll(rows)
	return out.Bytes(), err
}

func yesNo(yes bool) string {
	if yes {
		return "yes"
	}
	return "no"
}

// Cell is a text from a site such that no spreadsheet takes it for a formula (common practice).
func Cell(s string) string {
	if s != "" && strings.ContainsRune("=+-@\t\r", rune(s[0])) {
		return "'" + s
	}
	return s
}

func number(v float64) string { return strconv.FormatFloat(v, 'f', -1, 64) }

type (
	junitSuite struct {
		XMLName  xml.Name    `xml:"testsuite"`
		Name     string      `xml:"name,attr"`
		Tests    int         `xml:"tests,attr"`
		Failures int         `xml:"failures,attr"`
		Errors   int         `xml:"errors,attr"`
		Skipped  int         `xml:"skipped,attr"`
		Cases    []junitCase `xml:"testcase"`
	}
	junitCase struct {
		Class   string     `xml:"classname,attr"`
		Name    string     `xml:"name,attr"`
		Failure *junitText `xml:"failure,omitempty"`
		Skipped *junitText `xml:"skipped,omitempty"`
	}
	junitText struct {
		Message string `xml:"message,attr"`
	}
)

// JUnit is what a build server shows: a case for each metric over all pages, which fails when it is worse, and one for each
// budget, which fails when it is exceeded. What is not sure is skipped.
func JUnit(name string, list []Comparison, budgets []BudgetResult) ([]byte, error) {
	s := junitSuite{Name: name}
	add := func(class, name string, bad, unsure bool, says string) {
		c := junitCase{Class: class, Name: name}
		s.Tests++
		switch {
		case bad:
			s.Failures++
			c.Failure = &junitText{says}
		case unsure:
			s.Skipped++
			c.Skipped = &junitText{says}
		}
		s.Cases = append(s.Cases, c)
	}
	for _, c := range list {
		if c.Page == "" {
			add(name+"."+c.String(), c.Title, c.Result == Worse, c.Result == TooNoisy || c.Result == Undecided, c.sentence())
		}
	}
	for _, b := range budgets {
		add(name+".budgets", fmt.Sprintf("%s: %s, %s", b.Budget, b.Page, b.Device), b.Outcome == Exceeded, b.Outcome == Unsure, b.Why)
	}
	out, err := xml.MarshalIndent(s, "", "  ")
	return append([]byte(xml.Header), append(out, '\n')...), err
}

// OpenMetrics is the medians of both sides as monitoring reads them (OpenMetrics 1.0): in seconds and octets.
func OpenMetrics(site string, list []Comparison) []byte {
	var out strings.Builder
	for _, d := range Definitions {
		var samples []string
		name, unit, part := "tidemarker_"+strings.ReplaceAll(string(d.Metric), "-", "_"), "", 1.0
		switch d.Unit {
		case "ms":
			unit, part = "seconds", 1e-3
		case "bytes":
			unit = "bytes"
		}
		if unit != "" {
			name += "_" + unit
		}
		for _, c := range list {
			if c.Metric != d.Metric || c.Page == "" {
				continue
			}
			for _, side := range []struct {
				name  Side
				value float64
			}{{Before, c.Before}, {After, c.After}} {
				samples = append(samples, fmt.Sprintf("%s{site=%s,page=%s,device=%s,persona=%s,visit=%s,page_cache=%s,side=%s} %s", name, label(site), label(c.Page), label(c.Device), label(c.Persona), label(string(c.Visit)),
					label(yesNo(!c.Uncached)), label(string(side.name)), strconv.FormatFloat(side.value*part, 'g', 10, 64)))
			}
		}
		if len(samples) == 0 {
			continue
		}
		fmt.Fprintf(&out, "# TYPE %s gauge\n", name)
		if unit != "" {
			fmt.Fprintf(&out, "# UNIT %s %s\n", name, unit)
		}
		fmt.Fprintf(&out, "# HELP %s Median of the %s.\n%s\n", name, d.Title, strings.Join(samples, "\n"))
	}
	return []byte(out.String() + "# EOF\n")
}

func label(s string) string {
	return `"` + strings.NewReplacer(`\`, `\\`, `"`, `\"`, "\n", `\n`).Replace(s) + `"`
}
