package evidence

import (
	"time"

	"tidemarker/internal/core/settings"
)

// Report is what a check writes: docs/contract/report.schema.json.
type Report struct {
	Site         string                `json:"site"`
	Environment  string                `json:"environment"`
	Revision     string                `json:"revision"`
	ComparedWith string                `json:"comparedWith"`
	Change       []settings.Difference `json:"change"`
	StartedAt    time.Time             `json:"startedAt"`
	FinishedAt   time.Time             `json:"finishedAt"`
	Verdict      Verdict               `json:"verdict"`
	Summary      string                `json:"summary"`
	Findings     []Finding             `json:"findings"`
	Looks        Progress              `json:"looks"`
	Restored     bool                  `json:"restored"`
}
