package api

import "tidemarker/internal/core/settings"

// RiskView is what a change does to risk: how many settings of each risk are in use, from 0 to 3.
type RiskView struct {
	Before  settings.RiskProfile `json:"before" doc:"With the settings that it starts from."`
	After   settings.RiskProfile `json:"after"`
	Bundles []BundleRisk         `json:"bundles" doc:"With each bundle put into the change."`
}

// BundleRisk is what would be in use with a bundle.
type BundleRisk struct {
	Name  string               `json:"name"`
	After settings.RiskProfile `json:"after"`
}

// riskOf says what a change does to risk, and what each bundle would.
func riskOf(cat settings.Catalogue, base, target settings.Values, host settings.Host, bundles []BundleView) RiskView {
	v := RiskView{Before: settings.ProfileOf(cat, base), After: settings.ProfileOf(cat, target), Bundles: []BundleRisk{}}
	for _, b := range bundles {
		edits, _ := settings.Bundle{Wishes: b.Wishes}.Edits(cat, target, host)
		v.Bundles = append(v.Bundles, BundleRisk{b.Name, settings.ProfileOf(cat, target.With(edits))})
	}
	return v
}
