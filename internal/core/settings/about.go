package settings

import "slices"

// About is who answers for an environment's speed layer, and what its host offers.
type About struct {
	Protocol    string    `json:"protocol"`
	Site        string    `json:"site"`
	Environment string    `json:"environment"`
	Software    string    `json:"software,omitempty"`
	Features    []string  `json:"features"`
	Facts       HostFacts `json:"facts"`
}

// HostFacts is what the host offers.
type HostFacts struct {
	Hosting         string      `json:"hosting,omitempty"`
	HTTPVersion     string      `json:"httpVersion,omitempty"`
	MemoryStore     bool        `json:"memoryStore"`
	RewriteRules    bool        `json:"rewriteRules"`
	Gzip            bool        `json:"gzip"`
	Brotli          bool        `json:"brotli"`
	OtherOptimisers []Optimiser `json:"otherOptimisers,omitempty"`
}

// Host is what the facts mean for settings, by the names that their needs use.
func (f HostFacts) Host() Host {
	return Host{Facts: Facts{
		"memoryStore": f.MemoryStore, "rewriteRules": f.RewriteRules, "gzip": f.Gzip, "brotli": f.Brotli,
		"http2":     f.HTTPVersion == "2" || f.HTTPVersion == "3",
		"notShared": f.Hosting == "virtual" || f.Hosting == "dedicated",
	}, Others: f.OtherOptimisers}
}

// Has tells whether a connector offers a feature: purge, purge-urls, warm, status.
func (a About) Has(feature string) bool { return slices.Contains(a.Features, feature) }
