package journey

import "strings"

// Canary stands in a step's texts for a word that is made up anew each time the steps are
// taken. Where the word turns up later tells who was served whose page.
const Canary = "{canary}"

// WithCanary is the steps with a word in place of [Canary]; the steps given stay as they are.
func WithCanary(steps []Step, word string) []Step {
	out := make([]Step, len(steps))
	for i, s := range steps {
		out[i] = s.saying(word)
	}
	return out
}

// HasCanary tells whether one of the steps puts a made-up word into a field. One that
// only looks for the word does not count.
func HasCanary(steps []Step) bool {
	for _, s := range steps {
		if s.Fill != nil && strings.Contains(s.Fill.Value, Canary) {
			return true
		}
	}
	return false
}

func (s Step) saying(word string) Step {
	put := func(text string) string { return strings.ReplaceAll(text, Canary, word) }
	s.Go = put(s.Go)
	if s.Fill != nil {
		s.Fill = &Input{s.Fill.In, put(s.Fill.Value), s.Fill.Secret}
	}
	if s.Expect != nil {
		e := *s.Expect
		for _, c := range []**Containing{&e.Text, &e.NoText} {
			if *c != nil {
				*c = &Containing{(*c).In, put((*c).Contains)}
			}
		}
		e.URL, e.Request = put(e.URL), put(e.Request)
		s.Expect = &e
	}
	return s
}
