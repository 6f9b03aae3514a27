package api

import (
	"context"
	"net/http"
	"time"

	"github.com/danielgtaylor/huma/v2"

	"wiselantern/client"
)

type nothing struct{}

func (a *API) accessRoutes(api huma.API) {
	route(api, http.MethodGet, "/api/health", "health", "Service", "Tell how the service is", a.health)
	route(api, http.MethodGet, "/api/session", "who-am-i", "Access", "Tell who asks", func(ctx context.Context, _ *nothing) (client.Session, error) {
		return client.Session{Person: personOf(ctx)}, nil
	})
	route(api, http.MethodPost, "/api/sign-in-links", "make-sign-in-link", "Access", "Make an address that signs its reader in once", func(ctx context.Context, _ *nothing) (client.SignInLink, error) {
		return a.SignInLink(personOf(ctx)), nil
	})

	type signedIn struct {
		SetCookie http.Cookie `header:"Set-Cookie"`
		Body      client.Session
	}
	huma.Register(api, huma.Operation{OperationID: "sign-in", Method: http.MethodPost, Path: "/api/session", Summary: "Exchange a one-time code or the token for a session", Tags: []string{"Access"}, Security: []map[string][]string{}},
		func(ctx context.Context, in *struct{ Body client.SignIn }) (*signedIn, error) {
			person := "console"
			secret, session, err := a.Gate.UseCode(ctx, in.Body.Code)
			if err != nil && in.Body.Token != "" && a.Gate.Token(in.Body.Token) {
				secret, session, err = a.Gate.Open(ctx, person)
			}
			if err != nil {
				if in.Body.Token != "" {
					return nil, huma.Error401Unauthorized("this is not the service's token; it stands in the file token of its data folder")
				}
				return nil, huma.Error401Unauthorized("this link was used already or is older than ten minutes; lantern console prints a new one")
			}
			expires := session.Expires.Time()
			return &signedIn{SetCookie: sessionCookieOf(secret, expires), Body: client.Session{Person: session.Person, Expires: &expires}}, nil
		})

	type signedOut struct {
		SetCookie http.Cookie `header:"Set-Cookie"`
	}
	huma.Register(api, huma.Operation{OperationID: "sign-out", Method: http.MethodDelete, Path: "/api/session", Summary: "End the session", Tags: []string{"Access"}},
		func(ctx context.Context, in *struct {
			Session http.Cookie `cookie:"lantern_session"`
		}) (*signedOut, error) {
			if err := a.Gate.Close(ctx, in.Session.Value); err != nil {
				return nil, problemOf(err)
			}
			return &signedOut{sessionCookieOf("", time.Unix(1, 0))}, nil
		})
}

func sessionCookieOf(secret string, expires time.Time) http.Cookie {
	return http.Cookie{Name: sessionCookie, Value: secret, Path: "/", Expires: expires, HttpOnly: true, SameSite: http.SameSiteStrictMode}
}

// SignInLink makes an address that signs that person in once.
func (a *API) SignInLink(person string) client.SignInLink {
	code, expires := a.Gate.NewCode(person)
	// Behind the #, so that it is never sent to a server or written to its log.
	return client.SignInLink{Link: a.Address + "/sign-in#code=" + code, Expires: expires}
}

func (a *API) health(context.Context, *nothing) (client.Health, error) {
	h := client.Health{State: "well", Version: a.Version}
	if a.Faults != nil {
		h.Faults = a.Faults()
	}
	if len(h.Faults) > 0 {
		h.State = "impaired"
	}
	if fault := a.Engine.Fault(); fault != nil {
		h.State, h.Error, h.Since = "cannot record", fault.Error, &fault.Since
	}
	return h, nil
}
