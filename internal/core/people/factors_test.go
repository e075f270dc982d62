package people

import (
	"encoding/base32"
	"fmt"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
)

// RFC 6238, appendix B, with SHA-1 and the key "12345678901234567890". The RFC shows eight digits; of six, as code apps show them, they are the last.
func TestCodesAreThoseOfTheStandard(t *testing.T) {
	secret := base32.StdEncoding.EncodeToString([]byte("12345678901234567890"))
	for at, code := range map[int64]string{59: "94287082", 1111111109: "07081804", 1111111111: "14050471", 1234567890: "89005924", 2000000000: "69279037", 20000000000: "65353130"} {
		step, right := CodeStep(secret, code[2:], time.Unix(at, 0))
		assert.True(t, right, "at %d", at)
		assert.Equal(t, at/30, step, "at %d", at)
	}
}

func TestACodeHoldsForAStepBeforeAndAfter(t *testing.T) {
	secret := base32.StdEncoding.EncodeToString([]byte("12345678901234567890"))
	const shown, code = 1111111095, "081804" // in the middle of its step
	for off, want := range map[time.Duration]bool{-31 * time.Second: true, 31 * time.Second: true, -70 * time.Second: false, 70 * time.Second: false} {
		step, right := CodeStep(secret, code, time.Unix(shown, 0).Add(off))
		assert.Equal(t, want, right, "%s", off)
		if right {
			assert.EqualValues(t, shown/30, step, "of the step in which it was shown, so that it is taken once")
		}
	}
	_, right := CodeStep(secret, " 081 804 ", time.Unix(shown, 0))
	assert.True(t, right, "as people type it")
	for _, no := range []string{"", "081805", "81804", "0818040"} {
		_, right := CodeStep(secret, no, time.Unix(shown, 0))
		assert.False(t, right, no)
	}
	_, right = CodeStep("not base 32!", "081804", time.Unix(shown, 0))
	assert.False(t, right)
}

func TestWhoHasToProveMore(t *testing.T) {
	for _, c := range []struct {
		role     Role
		factors  int
		required []Role
		want     Entry
	}{
		{Maintainer, 0, nil, In},
		{Maintainer, 0, []Role{Administrator, Approver}, In},
		{Approver, 0, []Role{Administrator, Approver}, Enrol},
		{Approver, 1, []Role{Administrator, Approver}, Prove},
		{Observer, 2, nil, Prove},
	} {
		assert.Equal(t, c.want, EntryOf(c.role, c.factors, c.required), fmt.Sprintf("%+v", c))
	}
}

func TestARecoveryCodeIsReadAsPeopleTypeIt(t *testing.T) {
	assert.Equal(t, "abcd-efgh-2345", WrittenCode("ABCDEFGH2345"))
	for _, typed := range []string{"abcd-efgh-2345", " ABCDEFGH2345 ", "abcd efgh 2345"} {
		assert.Equal(t, "ABCDEFGH2345", ReadCode(typed))
	}
}

func TestTheHighestRoleThatAProviderGivesCounts(t *testing.T) {
	roles := map[string]Role{"web": Maintainer, "leads": Approver, "all": Observer, "odd": "owner"}
	for want, said := range map[Role][]string{Approver: {"all", "leads", "web"}, Maintainer: {"web", "pub quiz"}, Observer: {"all"}, "": {"pub quiz", "Leads", ""}} {
		assert.Equal(t, want, RoleOf(said, roles), "%v", said)
	}
	assert.Empty(t, RoleOf(nil, roles))
	assert.Empty(t, RoleOf([]string{"odd"}, roles), "there is no such role")
}
