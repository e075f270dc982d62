package api_test

import (
	"fmt"
	"net/http"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"tidemarker/internal/api"
	"tidemarker/internal/core/people"
	"tidemarker/internal/core/release"
	"tidemarker/internal/core/schedule"
	"tidemarker/internal/core/settings"
	"tidemarker/internal/standin/origin"
)

func TestSchedulesAreWrittenByMaintainersAndSayWhenTheyComeNext(t *testing.T) {
	r := newRecord(t)
	by := func(name string, role people.Role) *visitor {
		return r.visitor(tokenOf(t, r.store, addPerson(t, r.store, name, role), people.Administrator))
	}
	marin, otto := by("Marin", people.Maintainer), by("Otto", people.Observer)
	daily := schedule.Schedule{What: schedule.Check, Begins: "2026-11-01T04:00", Zone: "Europe/Vienna", Rule: "FREQ=DAILY", Quiet: schedule.Quiet{From: "22:00", To: "06:00"}}
	status, _ := otto.ask(http.MethodPost, "/sites/1/schedules", daily, nil)
	assert.Equal(t, http.StatusForbidden, status)
	var v api.ScheduleView
	status, text := marin.ask(http.MethodPost, "/sites/1/schedules", daily, &v)
	require.Equal(t, http.StatusCreated, status, text)
	require.NotNil(t, v.Next)
	assert.Equal(t, "06:00", v.Next.Format("15:04"), "quiet until then")
	status, text = marin.ask(http.MethodPost, "/sites/1/schedules", schedule.Schedule{What: schedule.Check, Begins: "tomorrow", Zone: "UTC", Rule: "FREQ=DAILY"}, nil)
	assert.Equal(t, http.StatusUnprocessableEntity, status)
	assert.Contains(t, text, "“tomorrow” is no date and time. Write it as")
	at := fmt.Sprintf("/schedules/%d", v.ID)
	status, text = marin.ask(http.MethodPut, at, map[string]any{"version": v.Version, "schedule": daily, "paused": true}, &v)
	require.Equal(t, http.StatusOK, status, text)
	status, _ = marin.ask(http.MethodPut, at, map[string]any{"version": v.Version - 1, "schedule": daily}, nil)
	assert.Equal(t, http.StatusConflict, status)
	var all []api.ScheduleView
	status, text = otto.ask(http.MethodGet, "/sites/1/schedules", nil, &all)
	require.Equal(t, http.StatusOK, status, text)
	require.Len(t, all, 1)
	assert.True(t, all[0].Paused)
	assert.Nil(t, all[0].Next)
	status, _ = marin.ask(http.MethodDelete, at, nil, nil)
	assert.Equal(t, http.StatusNoContent, status)
	status, _ = marin.ask(http.MethodDelete, at, nil, nil)
	assert.Equal(t, http.StatusNotFound, status)
}

// From a tidy that was carried out once to one that recurs: scheduled by an approver, waiting for a backup, counted, and told.
func TestATidyIsScheduledAndCarriedOutAgain(t *testing.T) {
	d := newDesk(t)
	d.marked()
	marin := d.api(people.Maintainer)
	for _, env := range []string{"1", "2"} {
		status, text := marin.ask(http.MethodPost, "/environments/"+env+"/backups", map[string]any{"place": "vault"}, nil)
		require.Less(t, status, 300, text)
	}
	id := d.onProduction("No old spam", settings.Values{"tidy.spam": true, "tidy.keep": 4}, "tidy")
	d.production.Gather(origin.Spam, 12)
	other := d.promoted("Compact markup", settings.Values{"markup.compact": true})
	status, text := d.api(people.Approver).ask(http.MethodPost, "/sites/1/schedules", schedule.Schedule{What: schedule.Tidy, Begins: "2026-11-01T04:00", Zone: "UTC", Rule: "FREQ=WEEKLY", Tidy: &schedule.Again{Change: other, Most: 10}}, nil)
	assert.Equal(t, http.StatusConflict, status)
	assert.Contains(t, text, "“Compact markup” deletes nothing.", "a sentence may begin with a quotation mark")
	status, text = marin.ask(http.MethodPost, "/sites/1/schedules", schedule.Schedule{What: schedule.Tidy, Begins: "2026-11-01T04:00", Zone: "UTC", Rule: "FREQ=WEEKLY", Tidy: &schedule.Again{Change: id, Most: 10}}, nil)
	assert.Equal(t, http.StatusConflict, status, text)
	addPerson(t, d.store, "Vera", people.Approver)
	_, err := d.store.Pool.Exec(t.Context(), `UPDATE backups SET at = at - interval '2 days'`)
	require.NoError(t, err)
	status, text = marin.ask(http.MethodPost, "/environments/2/read", map[string]any{}, nil)
	require.Less(t, status, 300, text)

	d.signIn("Vera", "/sites/1/calendar")
	d.click("button", "^Add a schedule$")
	d.choose("form.sheet select", "Tidy production")
	d.choose("form.sheet .pair select", "No old spam")
	d.see("p", "Now it would delete 12:[^.]* 12\\.")
	d.see("form span", "Say how many records may be deleted at most")
	d.fill("form.sheet input[type=number]", "500")
	require.NoError(t, d.see("form.sheet label", "^First on").MustElement("input").InputTime(time.Now()))
	d.accessible("scheduling a tidy")
	d.click("form.sheet button", "^Save$")
	d.see("li.owned", "Tidy production, each month")
	d.see("li.owned", "at most\\s+500 records at once")

	_, err = d.store.Pool.Exec(t.Context(), `UPDATE schedules SET last_due = last_due - interval '2 days'`)
	require.NoError(t, err)
	d.see("li.owned", "It waits for a backup of production")
	d.accessible("a tidy that waits for a backup")
	d.fill(".backup input", "vault, box 10")
	d.click("button", "^Record the backup$")
	d.see("li.owned", "last run")
	var run int64
	require.NoError(t, d.store.Pool.QueryRow(t.Context(), `SELECT last_run FROM schedules`).Scan(&run))
	d.over(run)
	d.open(fmt.Sprintf("/runs/%d", run))
	d.see("h1", ": 12 records before, 0 after")
	d.accessible("the run of a tidy")
	d.reaches(id, release.Marked)
	d.click("a", "^Notices")
	d.see("p", ": 12 records before, 0 after")
}
