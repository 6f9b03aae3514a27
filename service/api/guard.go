package api

import (
	"context"
	"net"
	"net/http"
	"net/url"
	"slices"
	"strings"

	"github.com/gofiber/fiber/v2"
)

const sessionCookie = "lantern_session"

type personKey struct{}

// personOf is who asks, by the name that came with the token or the session.
func personOf(ctx context.Context) string {
	person, _ := ctx.Value(personKey{}).(string)
	return person
}

// onlyOurHosts refuses requests for other names: a page from elsewhere could
// have its own name point to loopback and so read what we answer.
func (a *API) onlyOurHosts(c *fiber.Ctx) error {
	if !a.isOurs(string(c.Context().Host())) {
		return fiber.NewError(http.StatusMisdirectedRequest, "the service does not answer to the name "+string(c.Context().Host())+"; start it with --host NAME to allow one")
	}
	return c.Next()
}

func (a *API) isOurs(host string) bool {
	name := host
	if h, _, err := net.SplitHostPort(host); err == nil {
		name = h
	}
	name = strings.Trim(name, "[]")
	if ip := net.ParseIP(name); ip != nil && ip.IsLoopback() || strings.EqualFold(name, "localhost") {
		return true
	}
	return slices.ContainsFunc(a.Hosts, func(h string) bool { return strings.EqualFold(h, name) })
}

// harden sets the headers that keep a browser from doing what the console never
// asks for.
func harden(c *fiber.Ctx) error {
	c.Set("Content-Security-Policy", "default-src 'self'; style-src 'self' 'unsafe-inline'; img-src 'self' data:; frame-ancestors 'none'; base-uri 'none'; form-action 'self'")
	c.Set("X-Content-Type-Options", "nosniff")
	c.Set("Referrer-Policy", "no-referrer")
	if strings.HasPrefix(c.Path(), "/api/") {
		c.Set("Cache-Control", "no-store")
	}
	return c.Next()
}

// open are the routes that ask for nothing.
func open(c *fiber.Ctx) bool {
	switch c.Path() {
	case "/api/health":
		return c.Method() == http.MethodGet
	case "/api/session":
		return c.Method() == http.MethodPost
	case "/api/upcoming.ics":
		return c.Method() == http.MethodGet // it asks for a key of its own
	}
	if strings.HasPrefix(c.Path(), "/api/answers/") {
		return true // it asks for a signed code
	}
	if strings.HasPrefix(c.Path(), "/api/hooks/") {
		return c.Method() == http.MethodPost // it asks for a signature
	}
	return !strings.HasPrefix(c.Path(), "/api/") && c.Path() != "/api" // the console's own files hold no data
}

// admit lets those through who have the token or a session.
func (a *API) admit(c *fiber.Ctx) error {
	if open(c) {
		return c.Next()
	}
	if header := c.Get(fiber.HeaderAuthorization); header != "" {
		scheme, token, _ := strings.Cut(header, " ")
		if !strings.EqualFold(scheme, "bearer") || !a.Gate.Token(strings.TrimSpace(token)) {
			return denied(c, "the token is not this service's; it stands in the file token of its data folder")
		}
		person := c.Get("Lantern-Person")
		if person == "" || len(person) > 100 {
			person = "token"
		}
		return a.pass(c, person)
	}
	secret := c.Cookies(sessionCookie)
	if secret == "" {
		return denied(c, "sign in first: show the token as a bearer token, or open a link that lantern console prints")
	}
	session, err := a.Gate.Session(c.UserContext(), secret)
	if err != nil {
		return denied(c, "the session has ended; sign in again")
	}
	if c.Method() != http.MethodGet && !a.fromConsole(c) {
		return fiber.NewError(http.StatusForbidden, "a session acts only from the console's own pages")
	}
	return a.pass(c, session.Person)
}

func (a *API) pass(c *fiber.Ctx, person string) error {
	c.SetUserContext(context.WithValue(c.UserContext(), personKey{}, person))
	return c.Next()
}

// fromConsole tells whether a browser sent the request from one of our pages.
func (a *API) fromConsole(c *fiber.Ctx) bool {
	origin, err := url.Parse(c.Get(fiber.HeaderOrigin))
	return err == nil && origin.Host != "" && origin.Host == string(c.Context().Host()) && a.isOurs(origin.Host)
}

func denied(c *fiber.Ctx, reason string) error {
	c.Set(fiber.HeaderWWWAuthenticate, "Bearer")
	return fiber.NewError(http.StatusUnauthorized, reason)
}
