package api

import (
	"context"
	"encoding/json"
	"net/http"
	"time"

	"github.com/danielgtaylor/huma/v2"

	"tidemarker/internal/core/exclusion"
	"tidemarker/internal/exclusions"
)

// exclusionOperations registers what is done to the ledger. Long because it is a list: one registration after the other.
func (s *Server) exclusionOperations(api huma.API) {
	tags := []string{"exclusions"}
	huma.Register(api, huma.Operation{OperationID: "list-exclusions", Method: http.MethodGet, Path: "/sites/{id}/exclusions", Summary: "What is excluded, and why; and what nobody explained", Tags: tags},
		func(ctx context.Context, in *struct {
			ByID
			exclusions.LedgerFilter
		}) (*output[exclusions.LedgerView], error) {
			return out(s.Exclusions.Ledger(ctx, in.ID, in.LedgerFilter))
		})
	huma.Register(api, huma.Operation{OperationID: "record-exclusion", Method: http.MethodPost, Path: "/sites/{id}/exclusions", Summary: "Records why something is excluded",
		Description: "409 when the ledger has it already.", Tags: tags, DefaultStatus: http.StatusCreated},
		func(ctx context.Context, in *struct {
			ByID
			Body struct {
				exclusions.EntryWords
				Key     string `json:"key" doc:"A setting that takes patterns."`
				Pattern string `json:"pattern" minLength:"1" maxLength:"500"`
			}
		}) (*output[exclusions.LedgerView], error) {
			if err := s.Exclusions.Record(ctx, in.ID, in.Body.Key, in.Body.Pattern, in.Body.EntryWords, who(ctx)); err != nil {
				return nil, problem(err)
			}
			return out(s.Exclusions.Ledger(ctx, in.ID, exclusions.Everything))
		})
	huma.Register(api, huma.Operation{OperationID: "edit-exclusions", Method: http.MethodPut, Path: "/sites/{id}/exclusions", Summary: "Edits entries of the ledger, all or none", Tags: tags},
		func(ctx context.Context, in *struct {
			ByID
			Body struct {
				exclusions.EntryWords
				IDs []int64 `json:"ids" minItems:"1" maxItems:"500"`
			}
		}) (*output[exclusions.LedgerView], error) {
			if err := s.Exclusions.Edit(ctx, in.ID, in.Body.IDs, in.Body.EntryWords, who(ctx)); err != nil {
				return nil, problem(err)
			}
			return out(s.Exclusions.Ledger(ctx, in.ID, exclusions.Everything))
		})
	type why struct {
		IDs []int64 `json:"ids" minItems:"1" maxItems:"500"`
		Why string  `json:"why" minLength:"1" maxLength:"2000"`
	}
	huma.Register(api, huma.Operation{OperationID: "retire-exclusions", Method: http.MethodPost, Path: "/sites/{id}/exclusions/retire", Summary: "Retires entries whose patterns are in force nowhere",
		Description: "409 when one is still in force: start a trial without it first.", Tags: tags},
		func(ctx context.Context, in *struct {
			ByID
			Body why
		}) (*output[exclusions.LedgerView], error) {
			if err := s.Exclusions.Retire(ctx, in.ID, in.Body.IDs, in.Body.Why, who(ctx)); err != nil {
				return nil, problem(err)
			}
			return out(s.Exclusions.Ledger(ctx, in.ID, exclusions.Everything))
		})
	huma.Register(api, huma.Operation{OperationID: "try-without-exclusions", Method: http.MethodPost, Path: "/sites/{id}/exclusions/trial", Summary: "Starts a change without these patterns, to see whether they are still needed", Tags: tags, DefaultStatus: http.StatusCreated},
		func(ctx context.Context, in *struct {
			ByID
			Body struct {
				IDs []int64 `json:"ids" minItems:"1" maxItems:"50"`
			}
		}) (*output[ChangeView], error) {
			id, err := s.Exclusions.TrialWithout(ctx, in.ID, in.Body.IDs, who(ctx))
			if err != nil {
				return nil, problem(err)
			}
			return out(s.changeView(ctx, id))
		})
	s.ledgerFileOperations(api, tags)
	s.ruleOperations(api, tags)
}

// ledgerFileOperations are what became of entries, and the ledger as a file.
func (s *Server) ledgerFileOperations(api huma.API, tags []string) {
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
	huma.Register(api, huma.Operation{OperationID: "mend-exclusions", Method: http.MethodPost, Path: "/sites/{id}/exclusions/mend", Summary: "Starts a change that adds and takes out patterns", Tags: tags, DefaultStatus: http.StatusCreated},
		func(ctx context.Context, in *struct {
			ByID
			Body struct {
				Title  string           `json:"title" minLength:"1" maxLength:"200"`
				Reason string           `json:"reason" maxLength:"4000"`
				Mends  []exclusion.Mend `json:"mends" minItems:"1" maxItems:"50"`
			}
		}) (*output[ChangeView], error) {
			id, err := s.Exclusions.Mend(ctx, in.ID, in.Body.Title, in.Body.Reason, in.Body.Mends, who(ctx))
			if err != nil {
				return nil, problem(err)
			}
			return out(s.changeView(ctx, id))
		})
	huma.Register(api, huma.Operation{OperationID: "import-exclusions", Method: http.MethodPost, Path: "/sites/{id}/exclusions/import", Summary: "Reads entries from CSV or JSON, all or none",
		Description: "422 with what is wrong, line by line. What is in the list already is skipped.", Tags: tags, MaxBodyBytes: mostUpload},
		func(ctx context.Context, in *struct {
			ByID
			Body struct {
				Format string `json:"format" enum:"csv,json"`
				Text   string `json:"text" maxLength:"4000000"`
			}
		}) (*output[exclusions.ImportedView], error) {
			return out(s.Exclusions.Import(ctx, in.ID, in.Body.Format, in.Body.Text, who(ctx)))
		})
	huma.Register(api, huma.Operation{OperationID: "export-exclusions", Method: http.MethodGet, Path: "/sites/{id}/exclusions/export", Summary: "The whole ledger as CSV (RFC 4180) or JSON", Tags: tags},
		func(ctx context.Context, in *struct {
			ByID
			Format string `query:"format" enum:"csv,json" default:"csv"`
		}) (*exported, error) {
			records, err := s.Exclusions.Records(ctx, in.ID)
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
}

// ruleOperations are how rules and policies agree with what was seen.
func (s *Server) ruleOperations(api huma.API, tags []string) {
	huma.Register(api, huma.Operation{OperationID: "get-coverage", Method: http.MethodGet, Path: "/environments/{id}/coverage", Summary: "What is wrong with an environment's rules, and the smallest change that fixes it", Tags: tags},
		func(ctx context.Context, in *ByID) (*output[exclusions.CoverageView], error) {
			return out(s.Exclusions.Coverage(ctx, in.ID))
		})
	huma.Register(api, huma.Operation{OperationID: "get-matrix", Method: http.MethodGet, Path: "/environments/{id}/matrix", Summary: "Who is never served a cached page, what the settings say, and what was seen", Tags: tags},
		func(ctx context.Context, in *ByID) (*output[exclusions.MatrixView], error) {
			return out(s.Exclusions.Matrix(ctx, in.ID))
		})
	huma.Register(api, huma.Operation{OperationID: "try-pattern", Method: http.MethodPost, Path: "/environments/{id}/patterns", Summary: "What a pattern matches among what is known, and what it narrowly misses", Tags: tags},
		func(ctx context.Context, in *struct {
			ByID
			Body struct {
				Role    string   `json:"role"`
				Pattern string   `json:"pattern" minLength:"1" maxLength:"500"`
				Texts   []string `json:"texts,omitempty" maxItems:"500" doc:"More to try it on, such as names of look-ups."`
			}
		}) (*output[exclusions.TriedView], error) {
			return out(s.Exclusions.TryPattern(ctx, in.ID, in.Body.Role, in.Body.Pattern, in.Body.Texts))
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
			return nil, problem(s.Exclusions.DecidePolicy(ctx, in.ID, in.Body.Class, in.Body.Persona, in.Body.Policy, in.Body.Reason, who(ctx)))
		})
	huma.Register(api, huma.Operation{OperationID: "find-addresses", Method: http.MethodPost, Path: "/sites/{id}/addresses", Summary: "Reads the sitemap of production, so that more addresses are known", Tags: tags},
		func(ctx context.Context, in *ByID) (*output[FoundAddresses], error) {
			n, err := s.Onboard.FindAddresses(ctx, in.ID)
			return out(FoundAddresses{n}, err)
		})
}

// mostUpload is how large the body of an operation may be that takes a file or a long list, in octets: as many characters as
// its description allows, however they are written in JSON.
const mostUpload = 32 << 20

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
