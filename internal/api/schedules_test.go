package api_test

import (
	"fmt"
	"net/http"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"tidemarker/internal/api"
	"tidemarker/internal/core/people"
	"tidemarker/internal/core/schedule"
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
