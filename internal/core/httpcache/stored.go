package httpcache

import "time"

// Stored is a response that a browser keeps, whose body is kept elsewhere under its SHA-256.
type Stored struct {
	URL      string    `json:"url"`
	Kind     string    `json:"kind"` // document, script, stylesheet, image, font …
	Device   string    `json:"device"`
	Status   int       `json:"status"`
	Fields   Header    `json:"fields"`
	Received time.Time `json:"received"`
	Body     string    `json:"body"`
}

// Exchange is what came of asking for it.
func (s Stored) Exchange() Exchange {
	return Exchange{Method: "GET", Status: s.Status, Request: Header{}, Response: s.Fields, Received: s.Received}
}

// Serves tells whether a browser takes it without asking at a time (RFC 9111 §4). Only a lifetime that the response states
// counts: browsers estimate one each in its own way (§4.2.2).
func (s Stored) Serves(at time.Time) bool {
	return s.Exchange().Kept() > 0 && s.Exchange().Fresh(at, false).Yes
}

// Lifetime is for how many seconds it is kept; 0 when the response does not say.
func (s Stored) Lifetime() int { return int(s.Exchange().Kept().Seconds()) }
