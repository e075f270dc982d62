package main

import (
	"context"
	"errors"
	"fmt"
	"net"
	"net/http"
	"time"

	"tidemarker/internal/status"
	"tidemarker/internal/store"
)

// statusFlag is the flag for the address of [app.tell].
const statusFlag = "status-listen"

// tell serves what the process says of itself under an address of its own, until the context ends; "" tells nobody.
func (a *app) tell(ctx context.Context, listen string) error {
	if listen == "" {
		return nil
	}
	l, err := net.Listen("tcp", listen)
	if err != nil {
		return fmt.Errorf("listen on %s: %w. Name another address with --%s", listen, err, statusFlag)
	}
	server := &http.Server{Handler: status.Handler(a.store.Answers, gauges(a.store)...), ReadHeaderTimeout: 10 * time.Second}
	go func() {
		if err := server.Serve(l); !errors.Is(err, http.ErrServerClosed) {
			a.log.Error("the status is no longer told", "why", err)
		}
	}()
	context.AfterFunc(ctx, func() { _ = server.Close() })
	a.log.Info("the status is told", "address", "http://"+l.Addr().String()+"/metrics")
	return nil
}

// gauges are what the database knows of all processes together.
func gauges(s *store.Store) []status.Gauge {
	counts := func(read func(context.Context) ([]store.Count, error), labels int) func(context.Context) ([]status.Sample, error) {
		return func(ctx context.Context) ([]status.Sample, error) {
			list, err := read(ctx)
			out := make([]status.Sample, len(list))
			for i, c := range list {
				out[i] = status.Sample{Labels: []string{c.A, c.B}[:labels], Value: float64(c.N)}
			}
			return out, err
		}
	}
	return []status.Gauge{
		{Name: "tidemarker_runs_open", Help: "Runs that are not over.", Labels: []string{"kind", "state"}, Read: counts(s.OpenRunCounts, 2)},
		{Name: "tidemarker_queue_jobs", Help: "Jobs that are not over.", Labels: []string{"queue", "state"}, Read: counts(s.JobCounts, 2)},
		{Name: "tidemarker_queue_wait_seconds", Help: "For how long the oldest job has waited that could start.", Labels: []string{"queue"}, Read: counts(s.JobAges, 1)},
		{Name: "tidemarker_environments_unknown", Help: "Environments of which it is not known what they have.", Read: func(ctx context.Context) ([]status.Sample, error) {
			n, err := s.UnknownActs(ctx)
			return []status.Sample{{Value: float64(n)}}, err
		}},
		{Name: "tidemarker_database_connections", Help: "Connections of this process to the database.", Labels: []string{"state"}, Read: func(context.Context) ([]status.Sample, error) {
			now := s.Pool.Stat()
			return []status.Sample{{Labels: []string{"in use"}, Value: float64(now.AcquiredConns())}, {Labels: []string{"idle"}, Value: float64(now.IdleConns())}}, nil
		}},
	}
}
