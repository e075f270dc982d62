package browser

import (
	"bytes"
	"image"
	"image/jpeg"
	"slices"
	"strings"
	"sync"

	"github.com/go-rod/rod/lib/proto"

	"tidemarker/internal/core/measure"
	"tidemarker/internal/core/waterfall"
)

// meter notes when each request of a load began, was answered and ended, and how the page came into view.
type meter struct {
	mu     sync.Mutex
	began  float64 // of the navigation, in seconds of the browser's monotonic clock
	list   []waterfall.Fetch
	at     map[proto.NetworkRequestID]int
	frames []frame
}

// frame is a picture of the window as the browser hands it out.
type frame struct {
	at   float64 // seconds since 1970
	jpeg []byte
}

const (
	filmWidth  = 240 // pixels, of each frame
	manyFrames = 150
	// keptFrames is how many frames of a load are kept at most.
	keptFrames = 8
)

func newMeter() *meter { return &meter{at: map[proto.NetworkRequestID]int{}} }

// since is a moment of the browser's clock in milliseconds since the navigation began.
func (m *meter) since(at proto.MonotonicTime) float64 { return (float64(at) - m.began) * 1000 }

func (m *meter) sent(e *proto.NetworkRequestWillBeSent, refused bool) {
	if m == nil {
		return
	}
	m.mu.Lock()
	defer m.mu.Unlock()
	if len(m.list) == 0 {
		m.began = float64(e.Timestamp)
	}
	if i, known := m.at[e.RequestID]; known && e.RedirectResponse != nil {
		r := &m.list[i]
		r.Status, r.Ended, r.Transferred = e.RedirectResponse.Status, m.since(e.Timestamp), int(e.RedirectResponse.EncodedDataLength)
		r.Answered = r.Ended
	}
	if len(m.list) >= manyRequests || isFavicon(e) || strings.HasPrefix(e.Request.URL, "data:") || strings.HasPrefix(e.Request.URL, "blob:") {
		return
	}
	m.at[e.RequestID] = len(m.list)
	m.list = append(m.list, waterfall.Fetch{URL: clip(e.Request.URL), Method: e.Request.Method, Kind: kindOf(e.Type), Started: m.since(e.Timestamp), From: askedBy(e), Refused: refused})
}

// of does something with a request that is known.
func (m *meter) of(id proto.NetworkRequestID, do func(*waterfall.Fetch)) {
	if m == nil {
		return
	}
	m.mu.Lock()
	defer m.mu.Unlock()
	if i, known := m.at[id]; known {
		do(&m.list[i])
	}
}

func (m *meter) answered(e *proto.NetworkResponseReceived) {
	m.of(e.RequestID, func(r *waterfall.Fetch) {
		r.Status, r.Type, r.Protocol = e.Response.Status, clip(e.Response.MIMEType), clip(e.Response.Protocol)
		r.Cached = r.Cached || e.Response.FromDiskCache
		r.Answered = m.since(e.Timestamp)
		if t := e.Response.Timing; t != nil && t.ReceiveHeadersEnd > 0 && !r.Cached {
			r.Answered = min(r.Answered, (t.RequestTime-m.began)*1000+t.ReceiveHeadersEnd)
		}
		r.Answered = max(r.Answered, r.Started)
	})
}

func (m *meter) ended(id proto.NetworkRequestID, at proto.MonotonicTime, bytes int, failed string) {
	m.of(id, func(r *waterfall.Fetch) {
		r.Ended, r.Failed = max(r.Started, m.since(at)), clip(failed)
		if !r.Cached {
			r.Transferred = bytes
		}
	})
}

// filmed takes a frame.
func (m *meter) filmed(e *proto.PageScreencastFrame) {
	if m == nil {
		return
	}
	m.mu.Lock()
	defer m.mu.Unlock()
	if e.Metadata != nil && len(m.frames) < manyFrames {
		m.frames = append(m.frames, frame{float64(e.Metadata.Timestamp), e.Data})
	}
}

// requests are those of the load; blocking are the addresses without which nothing was drawn.
func (m *meter) requests(blocking []string) []waterfall.Fetch {
	m.mu.Lock()
	defer m.mu.Unlock()
	out := slices.Clone(m.list)
	for i := range out {
		out[i].Blocking = slices.Contains(blocking, out[i].URL)
	}
	return out
}

// film are the frames since a moment (seconds since 1970), with their pictures; a white window comes first when the
// browser handed out nothing before it drew. Frames that cannot be read are left out.
func (m *meter) film(began float64) (shots []measure.Shot, raw [][]byte) {
	m.mu.Lock()
	defer m.mu.Unlock()
	for _, f := range m.frames {
		p, err := jpeg.Decode(bytes.NewReader(f.jpeg))
		if err != nil {
			continue
		}
		at := (f.at - began) * 1000
		if at <= 0 {
			shots, raw, at = nil, nil, 0 // what was there before
		}
		if len(shots) == 0 && at > 0 {
			blank := image.NewGray(image.Rect(0, 0, 2, 2))
			for i := range blank.Pix {
				blank.Pix[i] = 255
			}
			shots, raw = append(shots, measure.Shot{Picture: blank}), append(raw, nil)
		}
		shots, raw = append(shots, measure.Shot{At: at, Picture: p}), append(raw, f.jpeg)
	}
	return shots, raw
}
