package exclusion

import (
	"bytes"
	"encoding/csv"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"slices"
	"strings"
	"time"
)

// Record is one entry of a ledger as it is written out and read in.
type Record struct {
	Role         string   `json:"role"`
	Key          string   `json:"key,omitempty"` // of the site's setting; found by the role when it is not there
	Pattern      string   `json:"pattern"`
	Reason       string   `json:"reason"`
	Environments []string `json:"environments,omitempty"`
	Classes      []string `json:"classes,omitempty"`
	Personas     []string `json:"personas,omitempty"`
	LookAgain    string   `json:"lookAgain,omitempty"` // a day, as 2026-03-01
	State        string   `json:"state,omitempty"`     // told when written out, passed over when read in
	Line         int      `json:"-"`                   // where it was read, as a [LineFault] counts
}

// State is where an entry of the ledger stands.
type State string

// The states.
const (
	Proposed State = "proposed" // not everywhere in force where it should be
	Active   State = "active"
	Retired  State = "retired"
)

// StateOf says where an entry stands that is not retired: what the settings have
// decides, not what was said. wanted are the environments that it is for, all when
// there are none; on are those whose settings have it; all are the site's in the order
// of promotion. What is for all is active once the last one has it.
func StateOf(wanted, on, all []string) State {
	if len(wanted) == 0 && len(all) > 0 {
		wanted = all[len(all)-1:]
	}
	for _, name := range wanted {
		if !slices.Contains(on, name) {
			return Proposed
		}
	}
	if len(on) == 0 {
		return Proposed
	}
	return Active
}

// LineFault is what is wrong with one line of a file, counted from 1 with the heading.
type LineFault struct {
	Line int
	Why  string
}

func (f LineFault) Error() string { return fmt.Sprintf("line %d: %s", f.Line, f.Why) }

var columns = []string{"role", "key", "pattern", "reason", "environments", "classes", "personas", "lookAgain", "state"}

// mostRecords bounds what is read in at once.
const mostRecords = 5000

// WriteCSV writes records as RFC 4180 says, with a heading; lists are parted by blanks.
// A cell that a spreadsheet would compute is written with an apostrophe before it.
func WriteCSV(records []Record) []byte {
	var out bytes.Buffer
	w := csv.NewWriter(&out)
	w.UseCRLF = true
	_ = w.Write(columns) // a buffer takes everything
	for _, r := range records {
		row := []string{r.Role, r.Key, r.Pattern, r.Reason, strings.Join(r.Environments, " "), strings.Join(r.Classes, " "), joined(r.Personas), r.LookAgain, r.State}
		for i, cell := range row {
			if cell != "" && strings.ContainsRune("=+-@\t\r'", rune(cell[0])) {
				row[i] = "'" + cell
			}
		}
		_ = w.Write(row)
	}
	w.Flush()
	return out.Bytes()
}

// joined parts names that may have blanks in them.
func joined(names []string) string { return strings.Join(names, "; ") }

// ReadCSV reads what [WriteCSV] writes; columns may be in any order, and only role or
// key, pattern and reason have to be there. All faults are told, line by line.
func ReadCSV(raw []byte) ([]Record, []LineFault) {
	r := csv.NewReader(bytes.NewReader(bytes.TrimPrefix(raw, []byte("\xef\xbb\xbf"))))
	r.FieldsPerRecord = -1
	head, err := r.Read()
	if err != nil {
		return nil, []LineFault{{1, "there is no heading; the first line names the columns: " + strings.Join(columns, ", ")}}
	}
	at := map[string]int{}
	for i, name := range head {
		name = strings.TrimSpace(name)
		if !slices.Contains(columns, name) {
			return nil, []LineFault{{1, fmt.Sprintf("there is no column %q; the columns are %s", name, strings.Join(columns, ", "))}}
		}
		at[name] = i
	}
	var out []Record
	var faults []LineFault
	for {
		row, err := r.Read()
		if errors.Is(err, io.EOF) {
			return out, faults
		}
		if parse, ok := errors.AsType[*csv.ParseError](err); ok {
			return out, append(faults, LineFault{parse.Line, "this is not CSV: " + parse.Err.Error()})
		}
		line, _ := r.FieldPos(0)
		if len(out) == mostRecords {
			return out, append(faults, LineFault{line, fmt.Sprintf("more than %d lines; part the file", mostRecords)})
		}
		cell := func(name string) string {
			i, there := at[name]
			if !there || i >= len(row) {
				return ""
			}
			v := strings.TrimSpace(row[i])
			if len(v) > 1 && v[0] == '\'' && strings.ContainsRune("=+-@\t\r'", rune(v[1])) {
				v = v[1:]
			}
			return v
		}
		rec := Record{Role: cell("role"), Key: cell("key"), Pattern: cell("pattern"), Reason: cell("reason"), Environments: strings.Fields(cell("environments")),
			Classes: strings.Fields(cell("classes")), LookAgain: cell("lookAgain"), Line: line}
		for _, p := range strings.Split(cell("personas"), ";") {
			if p = strings.TrimSpace(p); p != "" {
				rec.Personas = append(rec.Personas, p)
			}
		}
		for _, why := range rec.faults() {
			faults = append(faults, LineFault{line, why})
		}
		out = append(out, rec)
	}
}

// ReadJSON reads an array of records. A fault's line is the record's place, from 1.
func ReadJSON(raw []byte) ([]Record, []LineFault) {
	var each []json.RawMessage
	if err := json.Unmarshal(raw, &each); err != nil {
		return nil, []LineFault{{1, "this is not a JSON array of exclusions: " + err.Error()}}
	}
	if len(each) > mostRecords {
		return nil, []LineFault{{mostRecords + 1, fmt.Sprintf("more than %d exclusions; part the file", mostRecords)}}
	}
	var out []Record
	var faults []LineFault
	for i, one := range each {
		dec := json.NewDecoder(bytes.NewReader(one))
		dec.DisallowUnknownFields()
		var rec Record
		if err := dec.Decode(&rec); err != nil {
			faults = append(faults, LineFault{i + 1, err.Error()})
			continue
		}
		rec.Line = i + 1
		for _, why := range rec.faults() {
			faults = append(faults, LineFault{i + 1, why})
		}
		out = append(out, rec)
	}
	return out, faults
}

// faults are what can be said of a record by itself.
func (r Record) faults() []string {
	var out []string
	if r.Role == "" && r.Key == "" {
		out = append(out, "role or key is missing: say which setting excludes it")
	}
	if _, known := KindOf(r.Role); r.Role != "" && !known {
		out = append(out, fmt.Sprintf("%q is not a role that has patterns", r.Role))
	}
	if r.Pattern == "" {
		out = append(out, "pattern is missing")
	}
	if len(r.Pattern) > 500 || len(r.Reason) > 2000 {
		out = append(out, "pattern or reason is too long (500 and 2,000 letters)")
	}
	if r.Reason == "" {
		out = append(out, "reason is missing: say why it is excluded")
	}
	if r.LookAgain != "" {
		if _, err := time.Parse(time.DateOnly, r.LookAgain); err != nil {
			out = append(out, fmt.Sprintf("lookAgain %q is not a day such as 2026-03-01", r.LookAgain))
		}
	}
	return out
}
