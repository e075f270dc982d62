package site

// Promotion is what holds for a site's promotions.
type Promotion struct {
	ByAnother bool `json:"byAnother,omitempty" doc:"Whoever made a change does not approve it."`
}

// Promotes is what holds for the site's promotions, with what is by default.
func (s Site) Promotes() Promotion {
	if s.Promotion == nil {
		return Promotion{}
	}
	return *s.Promotion
}
