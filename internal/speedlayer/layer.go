package speedlayer

import (
	"context"
	"fmt"
	"os"
	"slices"
	"strings"

	"tidemarker/internal/core/release"
	"tidemarker/internal/core/settings"
)

// Layer is the speed layer of one environment. It is safe for concurrent use. What it is
// not able to do is not asked of it.
type Layer interface {
	About(context.Context) (settings.About, error)
	Catalogue(context.Context) (settings.Catalogue, error)
	Settings(context.Context) (Settings, error)
	// Apply replaces all values, on condition that the settings still have this entity
	// tag. Applied means that the site said so; whoever asked reads them back.
	Apply(ctx context.Context, v settings.Values, ifMatch string) release.Outcome
	Purge(context.Context, Scope) (purged int, err error)
	Warm(ctx context.Context, urls []string) (Warming, error)
	Warming(ctx context.Context, id string) (Warming, error)
	Status(context.Context) (Status, error)
}

// Settings are the values in force and the entity tag that a write must give back.
type Settings struct {
	Values settings.Values
	ETag   string
}

// Scope is what is purged: these addresses with all their variants, or every page when
// there are none. Stale marks pages stale in place of removing them.
type Scope struct {
	URLs  []string
	Stale bool
}

// Warming is how far a warm-up has come.
type Warming struct {
	ID     string `json:"id"`
	State  string `json:"state"` // running, done, failed
	Total  int    `json:"total"`
	Done   int    `json:"done"`
	Failed int    `json:"failed"`
}

// Status is what the page cache has now.
type Status struct {
	Entries int   `json:"entries"`
	Fresh   int   `json:"fresh"`
	Stale   int   `json:"stale"`
	Bytes   int64 `json:"bytes"`
}

// Abilities is what a speed layer can do.
type Abilities struct {
	Reads       bool `json:"reads" doc:"Its settings can be read at any time; otherwise a person uploads them."`
	Applies     bool `json:"applies" doc:"Settings can be applied to it; otherwise a person does that by a checklist."`
	PurgesAll   bool `json:"purgesAll" doc:"The whole page cache can be purged."`
	PurgesPages bool `json:"purgesPages" doc:"Single pages can be purged."`
	Warms       bool `json:"warms" doc:"Pages can be warmed up."`
	TellsStatus bool `json:"tellsStatus" doc:"It says what its page cache has."`
}

// Place is one environment as far as its speed layer has to know it.
type Place struct {
	Environment string   // its name
	URL         string   // of its connector
	Token       string   // itself, or env:NAME
	Variables   []string // names that env: may name
	// Known gives the settings that are known of it, and their fingerprint, "" when none
	// are; for layers that cannot be read.
	Known func(context.Context) (settings.Values, string, error)
}

// RevealToken is the token itself.
func (p Place) RevealToken() (string, error) {
	name, fromEnvironment := strings.CutPrefix(p.Token, "env:")
	if !fromEnvironment {
		return p.Token, nil
	}
	if !slices.Contains(p.Variables, name) {
		return "", &NoAccess{fmt.Sprintf("The token of %s is to come from the environment variable %s, which no token may come from. The administrator of the server lists the variables that may be named in TIDEMARKER_TOKEN_VARIABLES", p.Environment, name)}
	}
	token := os.Getenv(name)
	if token == "" {
		return "", &NoAccess{fmt.Sprintf("The token of %s is to come from the environment variable %s, which is not set", p.Environment, name)}
	}
	return token, nil
}

// Kind is one way to reach speed layers.
type Kind struct {
	Name         string // as in site files
	Title        string // as people read it
	NeedsAddress bool   // it has an address and a token
	Able         func(settings.About) Abilities
	Open         func(Place) (Layer, error)
}

// Kinds are all ways that there are.
type Kinds []Kind

// Find returns the kind of that name.
func (k Kinds) Find(name string) (Kind, bool) {
	for _, kind := range k {
		if kind.Name == name {
			return kind, true
		}
	}
	return Kind{}, false
}

// Open returns an environment's speed layer; *[NoAccess] when there is no way to it.
func (k Kinds) Open(kind string, p Place) (Layer, error) {
	found, known := k.Find(kind)
	if !known {
		return nil, &NoAccess{p.Environment + " has no connector, so its settings can be neither read nor changed. Add one to the site file"}
	}
	return found.Open(p)
}

// Able is what the speed layer of an environment can do, as far as is known of it.
func (k Kinds) Able(kind string, about *settings.About) Abilities {
	found, known := k.Find(kind)
	if !known {
		return Abilities{}
	}
	if about == nil {
		about = &settings.About{}
	}
	return found.Able(*about)
}

// Readable are the names of the kinds whose settings can be read at any time.
func (k Kinds) Readable() []string {
	var out []string
	for _, kind := range k {
		if kind.Able(settings.About{}).Reads {
			out = append(out, kind.Name)
		}
	}
	return out
}
