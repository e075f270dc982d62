package journey

import (
	"encoding/json"
	"fmt"
	"slices"
)

// WriteRecording writes a journey as a recording that starts from a base address, such as
// https://shop.example. Values that are secret are left empty.
func WriteRecording(j Journey, base string) ([]byte, error) {
	out := recording{Title: j.Name, Steps: []recorded{viewport(slices.Contains(j.Devices, "phone") && len(j.Devices) == 1)}}
	for _, s := range j.Steps {
		out.Steps = append(out.Steps, recordedAs(s, base)...)
	}
	raw, err := json.MarshalIndent(out, "", "  ")
	if err != nil {
		return nil, fmt.Errorf("write %s as a recording: %w", j.Name, err)
	}
	return append(raw, '\n'), nil
}

func viewport(phone bool) recorded {
	no := false
	v := recorded{Type: "setViewport", Width: 1280, Height: 800, Scale: 1, Mobile: &phone, Touch: &phone, Landscape: &no}
	if phone {
		v.Width, v.Height = 390, 844
	}
	return v
}

// recordedAs is a step as a recording has it.
func recordedAs(s Step, base string) []recorded {
	zero := 1.0 // an offset from the corner, which has to be there and is inside
	switch {
	case s.Go != "":
		return []recorded{{Type: "navigate", URL: base + s.Go}}
	case s.Click != nil:
		return []recorded{{Type: "click", Selectors: selectorsOf(*s.Click), OffsetX: &zero, OffsetY: &zero}}
	case s.Hover != nil:
		return []recorded{{Type: "hover", Selectors: selectorsOf(*s.Hover)}}
	case s.ScrollTo != nil:
		return []recorded{{Type: "scroll", Selectors: selectorsOf(*s.ScrollTo)}}
	case s.Press != "":
		return []recorded{{Type: "keyDown", Key: s.Press}, {Type: "keyUp", Key: s.Press}}
	case s.Fill != nil, s.Choose != nil:
		in := s.Fill
		if in == nil {
			in = s.Choose
		}
		value := in.Value
		if in.Secret {
			value = ""
		}
		return []recorded{{Type: "change", Selectors: selectorsOf(in.In), Value: &value}}
	case s.Expect != nil:
		if r, plain := waitedAs(*s.Expect); plain {
			return []recorded{r}
		}
	}
	return []recorded{{Type: "customStep", Name: customName, Parameters: &s}}
}

// waitedAs is an expectation of one element as a recording has it; plain is false for others.
func waitedAs(e Expect) (r recorded, plain bool) {
	yes, no := true, false
	r.Type = "waitForElement"
	switch {
	case e == Expect{Visible: e.Visible} && e.Visible != nil:
		r.Selectors, r.Visible = selectorsOf(*e.Visible), &yes
	case e == Expect{Hidden: e.Hidden} && e.Hidden != nil:
		r.Selectors, r.Visible = selectorsOf(*e.Hidden), &no
	case e == Expect{Count: e.Count} && e.Count != nil:
		r.Selectors, r.Operator, r.Count = selectorsOf(e.Count.Of), "==", &e.Count.Is
	default:
		return r, false
	}
	return r, true
}

// selectorsOf are the ways to a target, the surest first.
func selectorsOf(t Target) []selector {
	var out []selector
	if name := t.Name; name != "" {
		if t.Role != "" {
			name += fmt.Sprintf("[role=%q]", t.Role)
		}
		out = append(out, selector{"aria/" + name})
	}
	if t.Label != "" {
		out = append(out, selector{"aria/" + t.Label})
	}
	if t.CSS != "" {
		out = append(out, selector{t.CSS})
	}
	if t.Text != "" {
		out = append(out, selector{"text/" + t.Text})
	}
	if len(out) == 0 && t.Role != "" {
		out = append(out, selector{fmt.Sprintf("[role=%q]", t.Role)})
	}
	return out
}
