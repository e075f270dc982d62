package web

import (
	"context"
	"encoding/json"
	"net/http"
	"time"

	"github.com/danielgtaylor/huma/v2"

	"tidemarker/internal/core/exclusion"
	"tidemarker/internal/core/settings"
)

// ExclusionView is one entry of the ledger: something excluded, and why.
type ExclusionView struct {
	ID           int64           `json:"id"`
	Change       *int64          `json:"change" doc:"The change that brought it; null when it was recorded of what was there."`
	Finding      *int64          `json:"finding" doc:"The finding that led to it."`
	Run          *int64          `json:"run" doc:"The run of that finding."`
	Role         settings.Role   `json:"role"`
	Key          string          `json:"key"`
	Title        string          `json:"title" doc:"Of the setting."`
	Pattern      string          `json:"pattern"`
	Reason       string          `json:"reason"`
	Who          string          `json:"who"`
	At           time.Time       `json:"at"`
	Environments []string        `json:"environments" doc:"None means all."`
	Classes      []string        `json:"classes" doc:"Of pages that it protects."`
	Personas     []string        `json:"personas" doc:"Whom it protects."`
	LookAgain    string          `json:"lookAgain" doc:"A day, or empty."`
	Due          bool            `json:"due" doc:"That day has come."`
	State        exclusion.State `json:"state" enum:"proposed,active,retired"`
	InForce      []string        `json:"inForce" doc:"Environments whose settings have it now."`
	Retired      string          `json:"retired,omitempty" doc:"By whom, when and why."`
	Trial        *ChangeRef      `json:"trial" doc:"The change that tries whether it is still needed."`
	TrialSays    string          `json:"trialSays,omitempty" doc:"What came of that."`
}

// Unexplained is a pattern that a site has and nobody recorded.
type Unexplained struct {
	Role    settings.Role `json:"role"`
	Key     string        `json:"key"`
	Title   string        `json:"title"`
	Pattern string        `json:"pattern"`
	InForce []string      `json:"inForce"`
}

// LedgerView is a part of a site's ledger.
type LedgerView struct {
	Site        string          `json:"site"`
	Entries     []ExclusionView `json:"entries"`
	Total       int             `json:"total" doc:"Entries that the filter lets through."`
	Due         int             `json:"due" doc:"Entries of the whole ledger whose day has come."`
	Unexplained []Unexplained   `json:"unexplained"`
	Settings    []PatternHolder `json:"settings" doc:"Settings that exclude something."`
}

// PatternHolder is a setting that takes patterns.
type PatternHolder struct {
	Key   string        `json:"key"`
	Title string        `json:"title"`
	Role  settings.Role `json:"role"`
}

// CoverageView is what is to be said of an environment's rules.
type CoverageView struct {
	Remarks   []exclusion.Remark `json:"remarks"`
	Pages     int                `json:"pages" doc:"Addresses that are known."`
	Resources int                `json:"resources" doc:"Scripts, styles and pictures that are known."`
	Run       int64              `json:"run" doc:"The run whose looks count; 0 when there is none."`
}

// MatrixView is policies, settings and sightings of an environment.
type MatrixView struct {
	Environment string           `json:"environment"`
	Run         int64            `json:"run" doc:"The run whose looks count; 0 when there is none."`
	Cells       []exclusion.Cell `json:"cells"`
}

// EntryWords are what a person says of an entry.
type EntryWords struct {
	Reason       *string  `json:"reason,omitempty" minLength:"1" maxLength:"2000"`
	Environments []string `json:"environments,omitempty" doc:"Left as they are when absent."`
	Classes      []string `json:"classes,omitempty"`
	Personas     []string `json:"personas,omitempty"`
	LookAgain    *string  `json:"lookAgain,omitempty" doc:"A day as 2026-03-01; empty for none."`
}

func (s *Server) exclusionOperations(api huma.API) {
	tags := []string{"exclusions"}
	huma.Register(api, huma.Operation{OperationID: "list-exclusions", Method: http.MethodGet, Path: "/sites/{id}/exclusions", Summary: "What is excluded, and why; and what nobody explained", Tags: tags},
		func(ctx context.Context, in *struct {
			ByID
			LedgerFilter
		}) (*output[LedgerView], error) {
			return out(s.ledgerView(ctx, in.ID, in.LedgerFilter))
		})
	huma.Register(api, huma.Operation{OperationID: "record-exclusion", Method: http.MethodPost, Path: "/sites/{id}/exclusions", Summary: "Records why something is excluded",
		Description: "409 when the ledger has it already.", Tags: tags, DefaultStatus: http.StatusCreated},
		func(ctx context.Context, in *struct {
			ByID
			Body struct {
				EntryWords
				Key     string `json:"key" doc:"A setting that takes patterns."`
				Pattern string `json:"pattern" minLength:"1" maxLength:"500"`
			}
		}) (*output[LedgerView], error) {
			if err := s.recordExclusion(ctx, in.ID, in.Body.Key, in.Body.Pattern, in.Body.EntryWords); err != nil {
				return nil, problem(err)
			}
			return out(s.ledgerView(ctx, in.ID, everything))
		})
	huma.Register(api, huma.Operation{OperationID: "edit-exclusions", Method: http.MethodPut, Path: "/sites/{id}/exclusions", Summary: "Edits entries of the ledger, all or none", Tags: tags},
		func(ctx context.Context, in *struct {
			ByID
			Body struct {
				EntryWords
				IDs []int64 `json:"ids" minItems:"1" maxItems:"500"`
			}
		}) (*output[LedgerView], error) {
			if err := s.editExclusions(ctx, in.ID, in.Body.IDs, in.Body.EntryWords); err != nil {
				return nil, problem(err)
			}
			return out(s.ledgerView(ctx, in.ID, everything))
		})
	type why struct {
		IDs []int64 `json:"ids" minItems:"1" maxItems:"500"`
		Why string  `json:"why" minLength:"1" maxLength:"2000"`
	}
	huma.Register(api, huma.Operation{OperationID: "retire-exclusions", Method: http.MethodPost, Path: "/sites/{id}/exclusions/retire", Summary: "Retires entries whose patterns are in force nowhere",
		Description: "409 when one is still in force: begin a trial without it first.", Tags: tags},
		func(ctx context.Context, in *struct {
			ByID
			Body why
		}) (*output[LedgerView], error) {
			if err := s.retireExclusions(ctx, in.ID, in.Body.IDs, in.Body.Why); err != nil {
				return nil, problem(err)
			}
			return out(s.ledgerView(ctx, in.ID, everything))
		})
	huma.Register(api, huma.Operation{OperationID: "try-without-exclusions", Method: http.MethodPost, Path: "/sites/{id}/exclusions/trial", Summary: "Begins a change without these patterns, to see whether they are still needed", Tags: tags, DefaultStatus: http.StatusCreated},
		func(ctx context.Context, in *struct {
			ByID
			Body struct {
				IDs []int64 `json:"ids" minItems:"1" maxItems:"50"`
			}
		}) (*output[ChangeView], error) {
			return out(s.trialWithout(ctx, in.ID, in.Body.IDs))
		})
	huma.Register(api, huma.Operation{OperationID: "get-exclusion-history", Method: http.MethodGet, Path: "/sites/{id}/exclusions/{exclusion}/history", Summary: "What happened to an entry", Tags: tags},
		func(ctx context.Context, in *struct {
			ByID
			Exclusion int64 `path:"exclusion"`
		}) (*output[[]ExclusionEventView], error) {
			rows, err := s.Store.ExclusionEvents(ctx, in.ID, in.Exclusion)
			list := []ExclusionEventView{}
			for _, e := range rows {
				list = append(list, ExclusionEventView{e.Who, e.Text, e.At})
			}
			return out(list, err)
		})
	huma.Register(api, huma.Operation{OperationID: "mend-exclusions", Method: http.MethodPost, Path: "/sites/{id}/exclusions/mend", Summary: "Begins a change that adds and takes out patterns", Tags: tags, DefaultStatus: http.StatusCreated},
		func(ctx context.Context, in *struct {
			ByID
			Body struct {
				Title  string           `json:"title" minLength:"1" maxLength:"200"`
				Reason string           `json:"reason" maxLength:"4000"`
				Mends  []exclusion.Mend `json:"mends" minItems:"1" maxItems:"50"`
			}
		}) (*output[ChangeView], error) {
			return out(s.mend(ctx, in.ID, in.Body.Title, in.Body.Reason, in.Body.Mends))
		})
	huma.Register(api, huma.Operation{OperationID: "import-exclusions", Method: http.MethodPost, Path: "/sites/{id}/exclusions/import", Summary: "Reads entries from CSV or JSON, all or none",
		Description: "422 with what is wrong, line by line. What the ledger has already is passed over.", Tags: tags},
		func(ctx context.Context, in *struct {
			ByID
			Body struct {
				Format string `json:"format" enum:"csv,json"`
				Text   string `json:"text" maxLength:"4000000"`
			}
		}) (*output[ImportedView], error) {
			return out(s.importExclusions(ctx, in.ID, in.Body.Format, in.Body.Text))
		})
	huma.Register(api, huma.Operation{OperationID: "export-exclusions", Method: http.MethodGet, Path: "/sites/{id}/exclusions/export", Summary: "The whole ledger as CSV (RFC 4180) or JSON", Tags: tags},
		func(ctx context.Context, in *struct {
			ByID
			Format string `query:"format" enum:"csv,json" default:"csv"`
		}) (*exported, error) {
			records, err := s.ledgerRecords(ctx, in.ID)
			if err != nil {
				return nil, problem(err)
			}
			e := &exported{Type: "text/csv; charset=utf-8", Disposition: `attachment; filename="exclusions.csv"`}
			if in.Format == "json" {
				e.Type, e.Disposition = "application/json", `attachment; filename="exclusions.json"`
				e.Body, err = json.MarshalIndent(records, "", "  ")
				return e, err
			}
			e.Body = exclusion.WriteCSV(records)
			return e, nil
		})
	huma.Register(api, huma.Operation{OperationID: "get-coverage", Method: http.MethodGet, Path: "/environments/{id}/coverage", Summary: "What is wrong with an environment's rules, and the smallest change that mends it", Tags: tags},
		func(ctx context.Context, in *ByID) (*output[CoverageView], error) {
			return out(s.coverage(ctx, in.ID))
		})
	huma.Register(api, huma.Operation{OperationID: "get-matrix", Method: http.MethodGet, Path: "/environments/{id}/matrix", Summary: "Who is never served a cached page, what the settings say, and what was seen", Tags: tags},
		func(ctx context.Context, in *ByID) (*output[MatrixView], error) {
			return out(s.matrix(ctx, in.ID))
		})
	huma.Register(api, huma.Operation{OperationID: "try-pattern", Method: http.MethodPost, Path: "/environments/{id}/patterns", Summary: "What a pattern matches among what is known, and what it narrowly misses", Tags: tags},
		func(ctx context.Context, in *struct {
			ByID
			Body struct {
				Role    string   `json:"role"`
				Pattern string   `json:"pattern" minLength:"1" maxLength:"500"`
				Texts   []string `json:"texts,omitempty" maxItems:"500" doc:"More to hold it against, such as names of look-ups."`
			}
		}) (*output[TriedView], error) {
			return out(s.tryPattern(ctx, in.ID, in.Body.Role, in.Body.Pattern, in.Body.Texts))
		})
	huma.Register(api, huma.Operation{OperationID: "decide-policy", Method: http.MethodPut, Path: "/sites/{id}/policies", Summary: "Decides who may be served from the cache pages of a class; an empty policy brings the default back", Tags: tags},
		func(ctx context.Context, in *struct {
			ByID
			Body struct {
				Class   string `json:"class" minLength:"1"`
				Persona string `json:"persona" minLength:"1"`
				Policy  string `json:"policy" enum:",never,all,own"`
				Reason  string `json:"reason" minLength:"1" maxLength:"2000"`
			}
		}) (*struct{}, error) {
			return nil, problem(s.decidePolicy(ctx, in.ID, in.Body.Class, in.Body.Persona, in.Body.Policy, in.Body.Reason))
		})
	huma.Register(api, huma.Operation{OperationID: "find-addresses", Method: http.MethodPost, Path: "/sites/{id}/addresses", Summary: "Reads the sitemap of production, so that more addresses are known", Tags: tags},
		func(ctx context.Context, in *ByID) (*output[FoundAddresses], error) {
			n, err := s.Runner.FindAddresses(ctx, in.ID)
			return out(FoundAddresses{n}, err)
		})
}

// exported is a file to be saved.
type exported struct {
	Type        string `header:"Content-Type"`
	Disposition string `header:"Content-Disposition"`
	Body        []byte
}

// FoundAddresses is how many addresses a sitemap named.
type FoundAddresses struct {
	Found int `json:"found"`
}

// ExclusionEventView is one line of an entry's history.
type ExclusionEventView struct {
	Who  string    `json:"who"`
	Text string    `json:"text"`
	At   time.Time `json:"at"`
}

// ImportedView is what came of reading entries in.
type ImportedView struct {
	Added  int `json:"added"`
	Passed int `json:"passed" doc:"Entries that the ledger had already."`
}

// TriedView is what a pattern does.
type TriedView struct {
	exclusion.Tried
	Kind     string   `json:"kind" enum:"path,name,part,agent,exact,select" doc:"How it matches, by its role."`
	Known    int      `json:"known" doc:"Texts that it was compared with."`
	Possible bool     `json:"possible" doc:"It can match something at all."`
	Within   []string `json:"within" doc:"Patterns in force that match everything it does."`
}
