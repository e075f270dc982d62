package site

// Keeping is for how many days a site's evidence is kept; what is 0 is as by default. Marks in use and what they refer to, and
// the history, are kept for ever.
type Keeping struct {
	Clear    int `json:"clear,omitempty" minimum:"0" maximum:"36500" doc:"Looks, measurements and pictures of runs that were clear; 30 when absent."`
	Others   int `json:"others,omitempty" minimum:"0" maximum:"36500" doc:"The same of all other runs; 180 when absent."`
	Personal int `json:"personal,omitempty" minimum:"0" maximum:"36500" doc:"Bodies of pages as personas were shown them; 14 when absent."`
}

// Kept is the keeping with what is by default.
func (s Site) Kept() Keeping {
	k := Keeping{}
	if s.Keep != nil {
		k = *s.Keep
	}
	for days, other := range map[*int]int{&k.Clear: 30, &k.Others: 180, &k.Personal: 14} {
		if *days == 0 {
			*days = other
		}
	}
	return k
}
