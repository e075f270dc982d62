package exclusion

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestMomentsFollowFromWhatLivesForHowLong(t *testing.T) {
	l := Layer{On: true, Lifetime: 600, Rules: []Rule{{Key: "never", Role: "path-exclude", Pattern: "/cart"}}}
	pages := []Page{{Path: "/"}, {Path: "/contact", FormLives: 90}, {Path: "/ask", FormLives: 90}, {Path: "/long", FormLives: 86400}, {Path: "/cart", FormLives: 90}}
	m := Moments(l, pages, "")
	require.Len(t, m, 2)
	assert.Equal(t, Moment{FormsAged, 94, []string{"/contact", "/ask"}, "Its form can be sent for 90 seconds, and the page is cached for 10 minutes."}, m[0], "not of what is never cached, nor of a form that lives longer than its page")
	assert.Equal(t, Expired, m[1].Kind)
	assert.Equal(t, 630, m[1].After)
	assert.Equal(t, []string{"/", "/contact", "/ask", "/long"}, m[1].Pages)
	assert.Contains(t, m[1].String(), "/, /contact, /ask and 1 more: What is cached lives for 10 minutes")
	l.Stale = true
	assert.Contains(t, Moments(l, pages, "")[1].Why, "the stale page is served once more")
	l.On = false
	assert.Empty(t, Moments(l, pages, ""), "nothing is cached")
	assert.Empty(t, Moments(Layer{On: true}, pages, ""), "no setting says for how long")
}

func TestOnlyMomentsThatAreNewAreOfAChange(t *testing.T) {
	pages := []Page{{Path: "/"}, {Path: "/contact", FormLives: 90}}
	before := Layer{On: true, Lifetime: 600, Rules: []Rule{{Key: "never", Role: "path-exclude", Pattern: "/contact"}}}
	now := Layer{On: true, Lifetime: 600}
	m := NewMoments(Moments(before, pages, ""), Moments(now, pages, ""))
	require.Len(t, m, 2)
	assert.Equal(t, FormsAged, m[0].Kind)
	assert.Equal(t, []string{"/contact"}, m[1].Pages, "the home page expired as it does now")
	assert.Empty(t, NewMoments(Moments(now, pages, ""), Moments(now, pages, "")))
}
