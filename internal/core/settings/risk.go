package settings

import "reflect"

// MostRisk is the highest risk that a setting can have.
const MostRisk = 3

// RiskProfile is how many settings of each risk are in use: the number at place r of those with risk r, from 0, which can break
// nothing, to [MostRisk].
type RiskProfile [MostRisk + 1]int

// ProfileOf counts the settings that are in use with some values: a switch that is on, and anything else that is not as its
// catalogue has it from the start. Lists of patterns only ever take something out of what others do, and do not count.
func ProfileOf(cat Catalogue, v Values) (p RiskProfile) {
	for _, d := range cat.Settings {
		value, known := v[d.Key]
		if !known || d.Type == Patterns {
			continue
		}
		used := value == true
		if d.Type != Switch {
			used = !reflect.DeepEqual(value, d.Default)
		}
		if used {
			p[max(0, min(d.Risk, MostRisk))]++
		}
	}
	return p
}
