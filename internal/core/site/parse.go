package site

import (
	"bytes"
	"encoding/json"
	"errors"
	"fmt"
	"slices"
	"strings"
	"sync"

	"github.com/goccy/go-yaml"
	"github.com/santhosh-tekuri/jsonschema/v6"
	"golang.org/x/text/language"
	"golang.org/x/text/message"

	"tidemarker/docs/contract"
)

var compiled = sync.OnceValues(func() (*jsonschema.Schema, error) {
	doc, err := jsonschema.UnmarshalJSON(bytes.NewReader(contract.SiteFileSchema))
	if err != nil {
		return nil, err
	}
	c := jsonschema.NewCompiler()
	c.AssertFormat()
	if err := c.AddResource("site-file.schema.json", doc); err != nil {
		return nil, err
	}
	return c.Compile("site-file.schema.json")
})

// Parse reads a site file, YAML or JSON. The error names every member that does not
// fit and says what would; nothing is half read.
func Parse(raw []byte) (Site, error) {
	asJSON, err := yaml.YAMLToJSON(raw)
	if err != nil {
		return Site{}, fmt.Errorf("the site file is neither YAML nor JSON: %w", err)
	}
	doc, err := jsonschema.UnmarshalJSON(bytes.NewReader(asJSON))
	if err != nil {
		return Site{}, fmt.Errorf("the site file is neither YAML nor JSON: %w", err)
	}
	schema, err := compiled()
	if err != nil {
		return Site{}, fmt.Errorf("the site file's schema does not compile: %w", err)
	}
	if err := schema.Validate(doc); err != nil {
		if invalid, ok := errors.AsType[*jsonschema.ValidationError](err); ok {
			return Site{}, fmt.Errorf("the site file does not fit its schema: %s", strings.Join(leaves(invalid), "; "))
		}
		return Site{}, err
	}
	var s Site
	if err := json.Unmarshal(asJSON, &s); err != nil {
		return Site{}, fmt.Errorf("the site file cannot be read: %w", err)
	}
	s = s.withDefaults()
	if faults := s.faults(); len(faults) > 0 {
		return Site{}, fmt.Errorf("the site file contradicts itself: %s", strings.Join(faults, "; "))
	}
	return s, nil
}

// Check says whether a document can be worked with: that it fits the schema of site
// files, and contradicts itself nowhere.
func (s Site) Check() error {
	_, err := s.Read()
	return err
}

// Read is the document as [Parse] reads it, with its defaults; the error is Parse's.
func (s Site) Read() (Site, error) {
	raw, err := json.Marshal(s)
	if err != nil {
		return Site{}, err
	}
	return Parse(raw)
}

// File is the document as a site file (YAML), without tokens and secret values. It can be
// read in again.
func (s Site) File() ([]byte, error) {
	raw, err := json.Marshal(s.Redacted())
	if err != nil {
		return nil, err
	}
	return yaml.JSONToYAML(raw)
}

// leaves are the innermost reasons, each with the place it is about.
func leaves(e *jsonschema.ValidationError) []string {
	if len(e.Causes) == 0 {
		where := "/" + strings.Join(e.InstanceLocation, "/")
		return []string{where + ": " + e.ErrorKind.LocalizedString(message.NewPrinter(language.English))}
	}
	var out []string
	for _, c := range e.Causes {
		out = append(out, leaves(c)...)
	}
	slices.Sort(out)
	return slices.Compact(out)
}
