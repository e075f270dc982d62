package field

import (
	"bytes"
	"context"
	"encoding/csv"
	"errors"
	"fmt"
	"io"
	"strconv"
	"strings"
	"time"

	"tidemarker/internal/core/field"
	"tidemarker/internal/core/measure"
	"tidemarker/internal/core/site"
	"tidemarker/internal/store"
)

// mostRows is how many rows of a file are read.
const mostRows = 200_000

// Import reads field data of elsewhere from a CSV file with the columns day, device, metric, p75, and perhaps class (or
// page, by which it is told) and visits. All of it or nothing; the error names the line. It gives how many days were read.
func (d *Desk) Import(ctx context.Context, siteID int64, raw []byte) (int, error) {
	row, err := d.Store.Site(ctx, siteID)
	if err != nil {
		return 0, err
	}
	r := csv.NewReader(bytes.NewReader(bytes.TrimPrefix(raw, []byte("\ufeff"))))
	r.FieldsPerRecord = -1
	head, err := r.Read()
	if err != nil {
		return 0, &Refused{Why: "the file has no line with the names of its columns"}
	}
	at := map[string]int{}
	for i, h := range head {
		at[strings.ToLower(strings.TrimSpace(h))] = i
	}
	for _, name := range []string{"day", "device", "metric", "p75"} {
		if _, there := at[name]; !there {
			return 0, &Refused{Why: fmt.Sprintf("the file has no column %q. Its columns have to be day, device, metric, p75, and may be class or page, and visits", name)}
		}
	}
	var list []store.FieldDay
	seen := map[string]bool{}
	for line := 2; ; line++ {
		rec, err := r.Read()
		if errors.Is(err, io.EOF) {
			break
		}
		if err != nil {
			return 0, &Refused{Why: "the file is no CSV: " + err.Error()}
		}
		if len(list) >= mostRows {
			return 0, &Refused{Why: fmt.Sprintf("the file has more than %d lines", mostRows)}
		}
		day, err := fileDay(siteID, row.Document.V.Pages, func(name string) string {
			if i, there := at[name]; there && i < len(rec) {
				return strings.TrimSpace(rec[i])
			}
			return ""
		})
		if err != nil {
			return 0, &Refused{Why: fmt.Sprintf("line %d: %v", line, err)}
		}
		key := fmt.Sprint(day.Day, day.Class, day.Device, day.Metric)
		if seen[key] {
			return 0, &Refused{Why: fmt.Sprintf("line %d: this day, class, device and metric are there twice", line)}
		}
		seen[key] = true
		list = append(list, day)
	}
	if len(list) == 0 {
		return 0, &Refused{Why: "the file has no lines beside the names of its columns"}
	}
	return len(list), d.Store.SaveFieldDays(ctx, list)
}

func fileDay(siteID int64, pages []site.Page, of func(string) string) (store.FieldDay, error) {
	out := store.FieldDay{SiteID: siteID, Source: "file", Class: of("class"), Device: of("device")}
	var err error
	if out.Day, err = time.Parse(time.DateOnly, of("day")); err != nil {
		return out, fmt.Errorf("%q is no day such as 2026-11-27", of("day"))
	}
	if out.Device != site.Desktop && out.Device != site.Phone {
		return out, fmt.Errorf("%q is neither desktop nor phone", out.Device)
	}
	for short, m := range field.Metrics {
		if strings.EqualFold(of("metric"), short) || of("metric") == string(m.Metric) {
			out.Metric = m.Metric
			v, err := strconv.ParseFloat(of("p75"), 64)
			if err != nil || v < 0 || v > m.Most {
				return out, fmt.Errorf("%q is no p75 between 0 and %g", of("p75"), m.Most)
			}
			out.P75 = &v
		}
	}
	if out.Metric == "" {
		return out, fmt.Errorf("%q is no metric: LCP, INP, CLS, FCP or TTFB", of("metric"))
	}
	if page := of("page"); page != "" && out.Class == "" {
		out.Class = field.ClassOf(pages, page)
	}
	if n := of("visits"); n != "" {
		if out.Visits, err = strconv.Atoi(n); err != nil || out.Visits < 0 {
			return out, fmt.Errorf("%q is no number of page views", n)
		}
	}
	return out, nil
}

// columns are those of an exported file: those that Import reads, then what is known beside them.
var columns = []string{"day", "device", "metric", "p75", "class", "visits", "source", "low", "high", "good", "needs improvement", "poor"}

// Export gives the last days of a site's field data as CSV (RFC 4180), a row for each day, device, metric and class of
// pages. Values are in milliseconds, the layout shift is the score; low and high are the ends of the 95 % interval. Of what
// was read from a file only the percentile is known. Import reads it again.
func (d *Desk) Export(ctx context.Context, siteID int64, days int, now time.Time) ([]byte, error) {
	if _, err := d.Store.Site(ctx, siteID); err != nil {
		return nil, err
	}
	list, err := d.Store.AllFieldDays(ctx, siteID, now.UTC().Truncate(24*time.Hour).AddDate(0, 0, 1-days))
	if err != nil {
		return nil, err
	}
	short := map[measure.Metric]string{}
	for name, m := range field.Metrics {
		short[m.Metric] = name
	}
	number := func(v float64) string { return strconv.FormatFloat(v, 'f', -1, 64) }
	rounded := func(m measure.Metric, v float64) string { // histograms know no more
		if m == measure.LayoutShift {
			return strconv.FormatFloat(v, 'f', 4, 64)
		}
		return strconv.FormatFloat(v, 'f', 1, 64)
	}
	rows := [][]string{columns}
	for _, r := range list {
		row := []string{r.Day.Format(time.DateOnly), r.Device, short[r.Metric], "", measure.Cell(r.Class), strconv.Itoa(r.Visits)}
		if l := r.Steps.Level(r.Metric); l != nil {
			row[3] = rounded(r.Metric, l.P75)
			row = append(row, "visitors", rounded(r.Metric, l.Low), rounded(r.Metric, l.High), strconv.Itoa(l.Good), strconv.Itoa(l.Middling), strconv.Itoa(l.Poor))
		} else if r.P75 != nil {
			row[3] = number(*r.P75)
			row = append(row, "file", "", "", "", "", "")
		} else {
			continue
		}
		rows = append(rows, row)
	}
	var out bytes.Buffer
	err = csv.NewWriter(&out).WriteAll(rows)
	return out.Bytes(), err
}
