package api

import (
	"context"
	"encoding/json"
	"fmt"
	"net/http"
	"slices"
	"strings"

	"github.com/danielgtaylor/huma/v2"

	"tidemarker/internal/core/journey"
)

// ReadRecording is what a browser's recording comes to as a journey.
type ReadRecording struct {
	Journey journey.Journey `json:"journey"`
	Notes   []string        `json:"notes" doc:"What the recording has that a journey has not, step by step."`
}

func (s *Server) recordingOperations(api huma.API) {
	tags := []string{"sites"}
	huma.Register(api, huma.Operation{OperationID: "read-recording", Method: http.MethodPost, Path: "/recordings", Summary: "Makes a journey from the file of a browser's recorder panel; nothing is stored",
		Description: "The open JSON format of the npm package @puppeteer/replay. 422 with the step that cannot be read.", Tags: tags, MaxBodyBytes: 1 << 20},
		func(_ context.Context, in *struct {
			Body json.RawMessage
		}) (*output[ReadRecording], error) {
			j, notes, err := journey.ReadRecording(in.Body)
			if err != nil {
				return nil, huma.Error422UnprocessableEntity("Nothing was read: " + err.Error() + ".")
			}
			return out(ReadRecording{j, orEmpty(notes)}, nil)
		})
	huma.Register(api, huma.Operation{OperationID: "export-recording", Method: http.MethodGet, Path: "/sites/{id}/recording", Summary: "A journey as a browser's recorder panel reads it, without secret values", Tags: tags},
		func(ctx context.Context, in *struct {
			ByID
			Journey     string `query:"journey" required:"true"`
			Environment string `query:"environment" doc:"Whose address it starts from; the first when nothing is said."`
		}) (*exported, error) {
			return s.exportRecording(ctx, in.ID, in.Journey, in.Environment)
		})
}

func (s *Server) exportRecording(ctx context.Context, id int64, name, environment string) (*exported, error) {
	row, err := s.Store.Site(ctx, id)
	if err != nil {
		return nil, problem(err)
	}
	doc := row.Document.V
	i := slices.IndexFunc(doc.Journeys, func(j journey.Journey) bool { return j.Name == name })
	if i < 0 || len(doc.Environments) == 0 {
		return nil, huma.Error404NotFound(fmt.Sprintf("There is no journey %q.", name))
	}
	env := doc.Environments[0]
	if environment != "" {
		at, place, _ := doc.Environment(environment)
		if env = at; place < 0 {
			return nil, huma.Error404NotFound(fmt.Sprintf("There is no environment %q.", environment))
		}
	}
	raw, err := journey.WriteRecording(doc.Journeys[i], strings.TrimSuffix(env.URL, "/"))
	return &exported{Type: "application/json", Disposition: fmt.Sprintf(`attachment; filename=%q`, fileName(name)+".json"), Body: raw}, problem(err)
}
