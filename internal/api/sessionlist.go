package api

import (
	"context"
	"net/http"
	"slices"
	"strings"
	"time"

	"github.com/danielgtaylor/huma/v2"
)

// What a session keeps of where it was begun, so that who has it can tell it from others.
const (
	sessionKey     = "key" // names it to its owner; it opens nothing
	sessionBegan   = "began"
	sessionAgent   = "agent"
	sessionAddress = "address"
)

// OpenSession is one browser in which somebody is signed in.
type OpenSession struct {
	Key     string    `json:"key" doc:"Names it; it opens nothing."`
	Began   time.Time `json:"began"`
	Until   time.Time `json:"until" doc:"When it is over at the latest."`
	Browser string    `json:"browser" doc:"As the browser calls itself."`
	Address string    `json:"address" doc:"From where it was begun."`
	This    bool      `json:"this" doc:"It is the one that asks."`
}

func (s *Server) sessionListOperations(api huma.API, tags []string) {
	huma.Register(api, huma.Operation{OperationID: "list-sessions", Method: http.MethodGet, Path: "/session/open", Summary: "Where you are signed in", Tags: tags},
		func(ctx context.Context, _ *struct{}) (*output[[]OpenSession], error) {
			return out(s.openSessions(ctx))
		})
	huma.Register(api, huma.Operation{OperationID: "end-session", Method: http.MethodDelete, Path: "/session/open/{key}", Summary: "Ends a session of yours", Description: "others ends all but the one that asks.", Tags: tags},
		func(ctx context.Context, in *struct {
			Key string `path:"key" maxLength:"40"`
		}) (*struct{}, error) {
			ended, err := s.endSessions(ctx, in.Key)
			if err == nil && ended == 0 && in.Key != "others" {
				err = huma.Error404NotFound("That session has ended.")
			}
			return nil, problem(err)
		})
}

// noteSession keeps where the session of ctx was begun.
func (s *Server) noteSession(ctx context.Context, key string) {
	c := callerOf(ctx)
	s.sessions.Put(ctx, sessionKey, key)
	s.sessions.Put(ctx, sessionBegan, time.Now().Unix())
	s.sessions.Put(ctx, sessionAgent, strings.ToValidUTF8(c.agent[:min(len(c.agent), 300)], ""))
	s.sessions.Put(ctx, sessionAddress, c.address)
}

// eachOwn does something with each session of the person who calls that is not over.
func (s *Server) eachOwn(ctx context.Context, do func(ctx context.Context, o OpenSession) error) error {
	c := callerOf(ctx)
	here := s.sessions.GetString(ctx, sessionKey)
	return s.sessions.Iterate(ctx, func(ctx context.Context) error {
		if s.sessions.GetInt64(ctx, sessionPerson) != c.person.ID || s.sessions.GetInt(ctx, sessionEpoch) != c.person.Epoch {
			return nil
		}
		key := s.sessions.GetString(ctx, sessionKey)
		return do(ctx, OpenSession{Key: key, Began: time.Unix(s.sessions.GetInt64(ctx, sessionBegan), 0).UTC(), Until: s.sessions.Deadline(ctx).UTC(),
			Browser: s.sessions.GetString(ctx, sessionAgent), Address: s.sessions.GetString(ctx, sessionAddress), This: key != "" && key == here})
	})
}

func (s *Server) openSessions(ctx context.Context) ([]OpenSession, error) {
	list := []OpenSession{}
	err := s.eachOwn(ctx, func(_ context.Context, o OpenSession) error {
		list = append(list, o)
		return nil
	})
	slices.SortFunc(list, func(a, b OpenSession) int { return b.Began.Compare(a.Began) })
	return list, err
}

// endSessions ends one session of the person who calls, or all others, and says how many.
func (s *Server) endSessions(ctx context.Context, key string) (n int, err error) {
	err = s.eachOwn(ctx, func(ctx context.Context, o OpenSession) error {
		if o.Key != key && (key != "others" || o.This) {
			return nil
		}
		n++
		return s.sessions.Destroy(ctx)
	})
	return n, err
}
