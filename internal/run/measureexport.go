package run

import (
	"bytes"
	"context"
	_ "embed"
	"encoding/base64"
	"encoding/json"
	"errors"
	"fmt"
	"html/template"
	"math"
	"strings"
	"time"

	"tidemarker/internal/core/measure"
	"tidemarker/internal/core/waterfall"
	"tidemarker/internal/store"
)

// Format is in what form a measurement is handed out.
type Format string

// Exported is a file that is handed out.
type Exported struct {
	Type, Extension string
	Body            []byte
}

// version is what HAR files name as their creator's.
const version = "1"

// ExportMeasured is what a run measured as a file. page narrows a HAR file to one page.
func (w *Runner) ExportMeasured(ctx context.Context, r store.Run, as Format, page string) (Exported, error) {
	loads, err := w.Store.Loads(ctx, r.ID)
	if err != nil {
		return Exported{}, err
	}
	if len(loads) == 0 {
		return Exported{}, fmt.Errorf("what run %d measured: %w", r.ID, store.ErrNotFound)
	}
	list := measure.Compare(loads)
	row, err := w.Store.Site(ctx, r.SiteID)
	if err != nil {
		return Exported{}, err
	}
	switch as {
	case "csv":
		raw, err := measure.CSV(loads)
		return Exported{"text/csv; charset=utf-8", "csv", raw}, err
	case "openmetrics":
		return Exported{"application/openmetrics-text; version=1.0.0; charset=utf-8", "txt", measure.OpenMetrics(row.Name, list)}, nil
	case "junit":
		raw, err := measure.JUnit(row.Name, list, measure.Budgets(row.Document.V.Budgets, loads, row.Document.V.ClassOf))
		return Exported{"application/xml", "xml", raw}, err
	case "har":
		recordings, err := Recordings(ctx, w.Store, r, page)
		if err != nil {
			return Exported{}, err
		}
		raw, err := waterfall.WriteHAR(version, recordings)
		return Exported{"application/json", "har", raw}, err
	}
	report, err := ReportMeasure(ctx, w.Store, r)
	if err != nil {
		return Exported{}, err
	}
	if as == "json" {
		raw, err := json.MarshalIndent(struct {
			MeasureReport
			Loads []measure.Load `json:"loads"`
		}{report, loads}, "", "  ")
		return Exported{"application/json", "json", raw}, err
	}
	raw, err := w.measuredPage(ctx, r, row.Name, report)
	if err != nil || as == "html" {
		return Exported{"text/html; charset=utf-8", "html", raw}, err
	}
	b, err := w.Tools.Browser()
	if err != nil {
		return Exported{}, err
	}
	pdf, err := b.Print(ctx, raw)
	return Exported{"application/pdf", "pdf", pdf}, err
}

//go:embed measured.html
var measuredHTML string

var measuredTemplate = template.Must(template.New("measured").Funcs(template.FuncMap{
	"value":  measure.Shown,
	"signed": measure.Signed,
	"bar":    bar,
	"div":    func(ms float64) float64 { return ms / 1000 },
	"join":   func(list []int) string { return strings.Trim(fmt.Sprint(list), "[]") },
}).Parse(measuredHTML))

// placed is where an interval lies on the scale of its table, in parts of a hundred.
type placed struct{ Left, Width, At float64 }

// bar places an interval on a scale from all of the value before less to as much more.
func bar(c MeasuredComparison) *placed {
	if len(c.Interval) != 2 || c.Before <= 0 {
		return nil
	}
	on := func(v float64) float64 { return math.Max(0, math.Min(100, 50+50*v/c.Before)) }
	low, high := on(c.Interval[0]), on(c.Interval[1])
	return &placed{low, math.Max(1, high-low), on(c.Shift)}
}

// reportedCase is one case of a report that is printed.
type reportedCase struct {
	Name          string
	Overall, Each []MeasuredComparison
}

// filmed is how a page came into view on both sides.
type filmed struct {
	Page  string
	Sides []filmedSide
}

type filmedSide struct {
	Name   string
	Frames []filmedFrame
}

type filmedFrame struct {
	At      float64
	Picture template.URL
}

// measuredPage is a measurement as an HTML page that names nothing outside itself.
func (w *Runner) measuredPage(ctx context.Context, r store.Run, siteName string, report MeasureReport) ([]byte, error) {
	data := struct {
		Site, Title string
		Made        time.Time
		Report      MeasureReport
		Cases       []*reportedCase
		Films       []filmed
	}{Site: siteName, Made: r.CreatedAt.UTC(), Report: report}
	if r.ChangeID != nil {
		c, err := w.Store.Change(ctx, *r.ChangeID)
		if err != nil {
			return nil, err
		}
		data.Title = c.Title
	}
	at := map[string]*reportedCase{}
	for _, c := range report.Comparisons {
		if at[c.Case] == nil {
			at[c.Case] = &reportedCase{Name: c.Case}
			data.Cases = append(data.Cases, at[c.Case])
		}
		if c.Page == "" {
			at[c.Case].Overall = append(at[c.Case].Overall, c)
		} else {
			at[c.Case].Each = append(at[c.Case].Each, c)
		}
	}
	var err error
	if data.Films, err = w.films(ctx, r.ID); err != nil {
		return nil, err
	}
	var out bytes.Buffer
	err = measuredTemplate.Execute(&out, data)
	return out.Bytes(), err
}

// films are how the pages of a run came into view, of each page in its first case.
func (w *Runner) films(ctx context.Context, run int64) (out []filmed, err error) {
	page, err := PageInDepth(ctx, w.Store, run, "", nil)
	if err != nil && !errors.Is(err, store.ErrNotFound) {
		return nil, err
	}
	for _, path := range page.Pages {
		one, err := PageInDepth(ctx, w.Store, run, path, nil)
		if err != nil {
			return nil, err
		}
		f := filmed{Page: fmt.Sprintf("%s, %s", path, one.Case)}
		for _, side := range []struct {
			name string
			of   *SideMeasured
		}{{"before", one.Before}, {"after", one.After}} {
			if side.of == nil || len(side.of.Film) == 0 {
				continue
			}
			s := filmedSide{Name: side.name}
			for _, frame := range side.of.Film {
				if frame.Picture == "" {
					continue
				}
				b, err := w.Tools.Blobs.Get(ctx, frame.Picture)
				if err != nil {
					return nil, err
				}
				s.Frames = append(s.Frames, filmedFrame{frame.At, template.URL("data:image/jpeg;base64," + base64.StdEncoding.EncodeToString(b.Bytes))})
			}
			f.Sides = append(f.Sides, s)
		}
		if len(f.Sides) > 0 {
			out = append(out, f)
		}
	}
	return out, nil
}
