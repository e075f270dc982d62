package people

import (
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestEachRoleMayDoWhatTheBriefSays(t *testing.T) {
	for role, may := range map[Role][]Ability{
		Observer: {See}, Maintainer: {See, Work}, Approver: {See, Work, Decide}, Administrator: {See, Work, Decide, Administer},
		"": nil, "owner": nil,
	} {
		for _, a := range []Ability{See, Work, Decide, Administer, "anything"} {
			assert.Equal(t, slices.Contains(may, a), role.May(a), "%q %s", role, a)
		}
	}
}

func TestATokenNeverGivesMoreThanItsOwnerHas(t *testing.T) {
	assert.Equal(t, Observer, Administrator.Capped(Observer))
	assert.Equal(t, Maintainer, Maintainer.Capped(Administrator))
	assert.Equal(t, Role(""), Administrator.Capped("root"))
	assert.Equal(t, Role(""), Role("").Capped(Maintainer))
}

func TestARefusalSaysWhoMay(t *testing.T) {
	assert.Equal(t, "This needs an approver or an administrator. You are signed in as a maintainer.", (&Forbidden{Decide, Maintainer}).Error())
	assert.Equal(t, "This needs a maintainer or an approver or an administrator. You are signed in as an observer.", (&Forbidden{Work, Observer}).Error())
}

func TestFiveFailuresLockForAQuarterOfAnHour(t *testing.T) {
	now := time.Date(2026, 11, 25, 12, 0, 0, 0, time.UTC)
	ago := func(minutes ...int) (out []time.Time) {
		for _, m := range minutes {
			out = append(out, now.Add(-time.Duration(m)*time.Minute))
		}
		return out
	}
	assert.Zero(t, DefaultLockOut.Until(nil, now))
	assert.Zero(t, DefaultLockOut.Until(ago(1, 2, 3, 4), now))
	assert.Zero(t, DefaultLockOut.Until(ago(1, 2, 3, 4, 15), now), "what is a quarter of an hour old counts no more")
	assert.Equal(t, now.Add(14*time.Minute), DefaultLockOut.Until(ago(1, 2, 3, 4, 14), now))
	assert.Equal(t, now.Add(14*time.Minute), DefaultLockOut.Until(ago(14, 4, 1, 3, 2), now), "in any order")
}

func TestAPasswordOrANameThatIsRefusedSaysWhatToDo(t *testing.T) {
	require.NoError(t, CheckPassword("slow tide at noon", "ada"))
	require.NoError(t, CheckPassword("пятьдесят волн", "ada"))
	for p, why := range map[string]string{"tide": "has 4 characters; take at least", strings.Repeat("ab", 101): "has 202 characters; 200 are the most",
		"qwertyuiop": "tried first", "password123": "tried first", "1q2w3e4r5t": "tried first", "administrator1": "tried first", "aaaaaaaaaaaa": "one character again and again", "Marin-and-sea": "has the sign-in name in it"} {
		require.ErrorContains(t, CheckPassword(p, "marin"), why)
	}
	require.NoError(t, CheckName("Ada Lovelace"))
	for n, why := range map[string]string{"a": "this has 1", "": "this has 0", strings.Repeat("x", 61): "this has 61", " ada": "no space at its ends", "ada\n": "no control characters",
		"ada\u202egnp": "no control characters"} {
		require.ErrorContains(t, CheckName(n), why, "%q", n)
	}
}
