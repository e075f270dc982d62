package settings

import (
	"encoding/json"
	"errors"
	"fmt"
	"regexp"
	"slices"
	"sort"
	"strconv"
	"strings"
	"unicode/utf8"

	"github.com/wI2L/jsondiff"
)

// Exported is a settings file that somebody exported from a site's own tool: any JSON,
// or lines of key and value.
type Exported struct {
	// Document is the file as one JSON document.
	Document json.RawMessage
	// Values are its leaves by JSON Pointer (RFC 6901).
	Values Values
}

// exportLimit is how large an exported file may be, in bytes; mostLeaves how many
// values it may have.
const (
	exportLimit = 4 << 20
	mostLeaves  = 5000
)

// ParseExported reads such a file. A list of texts is one value; other lists and
// objects are gone into. Errors of lines name the line.
func ParseExported(raw []byte) (Exported, error) {
	if len(raw) > exportLimit {
		return Exported{}, fmt.Errorf("the file has more than %d MiB; a settings file is smaller", exportLimit>>20)
	}
	if !utf8.Valid(raw) {
		return Exported{}, errors.New("the file is not UTF-8. Save it as that, and upload it again")
	}
	text := strings.TrimSpace(strings.TrimPrefix(string(raw), "\ufeff"))
	if text == "" {
		return Exported{}, errors.New("the file is empty")
	}
	var doc any
	if (text[0] == '{' || text[0] == '[') && !headingForm.MatchString(text) {
		if err := json.Unmarshal([]byte(text), &doc); err != nil {
			if at, ok := errors.AsType[*json.SyntaxError](err); ok {
				return Exported{}, fmt.Errorf("line %d is not JSON: %w", 1+strings.Count(text[:min(int(at.Offset), len(text))], "\n"), err)
			}
			return Exported{}, fmt.Errorf("the file is not JSON: %w", err)
		}
	} else {
		lines, err := keyValues(text)
		if err != nil {
			return Exported{}, err
		}
		doc = lines
	}
	out := Exported{Values: Values{}}
	leaves("", doc, out.Values)
	if len(out.Values) > mostLeaves {
		return Exported{}, fmt.Errorf("the file has %d values; up to %d can be worked with", len(out.Values), mostLeaves)
	}
	if len(out.Values) == 0 {
		return Exported{}, errors.New("the file has no value")
	}
	var err error
	out.Document, err = json.Marshal(doc)
	return out, err
}

// headingForm is a first line such as [cache], which is no JSON.
var headingForm = regexp.MustCompile(`^\[\s*[A-Za-z_][^\]"{,]*\]\s*(\n|$)`)

var lineForm = regexp.MustCompile(`^([^=:\s][^=:]*?)\s*[=:]\s*(.*)$`)

// keyValues reads lines of key and value, parted by = or :, under [headings]. Lines
// that begin with # or ; are remarks.
func keyValues(text string) (map[string]any, error) {
	out := map[string]any{}
	in := out
	for i, line := range strings.Split(text, "\n") {
		line = strings.TrimSpace(line)
		switch {
		case line == "" || line[0] == '#' || line[0] == ';':
			continue
		case line[0] == '[' && line[len(line)-1] == ']':
			name := strings.TrimSpace(line[1 : len(line)-1])
			if _, there := out[name]; there {
				return nil, fmt.Errorf("line %d: %q is there twice", i+1, name)
			}
			in = map[string]any{}
			out[name] = in
			continue
		}
		m := lineForm.FindStringSubmatch(line)
		if m == nil {
			return nil, fmt.Errorf("line %d is neither key = value nor a [heading]", i+1)
		}
		if _, there := in[m[1]]; there {
			return nil, fmt.Errorf("line %d: %q is there twice", i+1, m[1])
		}
		in[m[1]] = scalar(m[2])
	}
	return out, nil
}

// scalar is a text as what it looks like.
func scalar(s string) any {
	if len(s) >= 2 && (s[0] == '"' && s[len(s)-1] == '"' || s[0] == '\'' && s[len(s)-1] == '\'') {
		return s[1 : len(s)-1]
	}
	switch s {
	case "true", "on", "yes":
		return true
	case "false", "off", "no":
		return false
	}
	if n, err := strconv.ParseInt(s, 10, 53); err == nil && strconv.FormatInt(n, 10) == s {
		return float64(n)
	}
	return s
}

// Pointer is a JSON Pointer of keys (RFC 6901 §3).
func Pointer(keys ...string) string {
	var b strings.Builder
	for _, k := range keys {
		b.WriteByte('/')
		b.WriteString(strings.ReplaceAll(strings.ReplaceAll(k, "~", "~0"), "/", "~1"))
	}
	return b.String()
}

// unescape is a part of a JSON Pointer as the key it stands for (RFC 6901 §4).
func unescape(part string) string {
	return strings.ReplaceAll(strings.ReplaceAll(part, "~1", "/"), "~0", "~")
}

func leaves(at string, v any, into Values) {
	switch x := v.(type) {
	case map[string]any:
		for k, sub := range x {
			leaves(at+Pointer(k), sub, into)
		}
		if len(x) > 0 || at == "" {
			return
		}
	case []any:
		if !texts(x) {
			for i, sub := range x {
				leaves(at+"/"+strconv.Itoa(i), sub, into)
			}
			return
		}
	}
	into[at] = plain(v)
}

// plain is a leaf as a setting can hold it; what is neither a switch, a whole number,
// a text nor a list of texts is kept as the text of its JSON.
func plain(v any) any {
	switch x := v.(type) {
	case bool, string, []any:
		return v
	case float64:
		if x == float64(int64(x)) {
			return v
		}
	}
	raw, err := json.Marshal(v)
	if err != nil {
		return fmt.Sprint(v)
	}
	return string(raw)
}

// texts tells whether a list has only texts that are not empty; the empty list does.
func texts(list []any) bool {
	return !slices.ContainsFunc(list, func(v any) bool { s, ok := v.(string); return !ok || s == "" })
}

// CatalogueOf describes the values of an exported file as well as they can be told:
// what kind each is, and where it stands. What they mean is not known.
func CatalogueOf(v Values) Catalogue {
	keys := make([]string, 0, len(v))
	for k := range v {
		keys = append(keys, k)
	}
	sort.Strings(keys)
	c := Catalogue{Settings: []Definition{}}
	for _, k := range keys {
		parts := strings.Split(strings.TrimPrefix(k, "/"), "/")
		for i, p := range parts {
			parts[i] = unescape(p)
		}
		d := Definition{Key: k, Title: parts[len(parts)-1], Summary: "As the exported file has it.", Group: "Settings", Default: v[k], Role: "other", Risk: 1, Type: Text}
		if len(parts) > 1 {
			d.Group = strings.Join(parts[:len(parts)-1], " › ")
		}
		switch x := v[k].(type) {
		case bool:
			d.Type = Switch
		case float64:
			if x == float64(int64(x)) {
				d.Type = Whole
			}
		case []any:
			d.Type = Patterns
		}
		c.Settings = append(c.Settings, d)
	}
	return c
}

// Patch is the JSON Patch (RFC 6902) that makes one document another.
func Patch(before, after json.RawMessage) (json.RawMessage, error) {
	p, err := jsondiff.CompareJSON(before, after)
	if err != nil {
		return nil, fmt.Errorf("compare the two files: %w", err)
	}
	if p == nil {
		return json.RawMessage("[]"), nil
	}
	return json.Marshal(p)
}
