package flow

import (
	"context"

	"tidycourier/core/fault"
	"tidycourier/core/oauth"
	"tidycourier/core/pouch"
	"tidycourier/core/project"
)

// Refreshed is the result of a refresh.
type Refreshed struct {
	Before, After *pouch.Set // Before is nil for a refresh token from the settings
	Elsewhere     bool       // another process refreshed meanwhile, and its result is used
	Rotated       bool       // the server gave a new refresh token
}

// Refresh spends the refresh token now. One process at a time does; one that
// waited for another uses its result.
func (s *Session) Refresh(ctx context.Context, c *project.Client) (*Refreshed, error) {
	s.about(c)
	if err := checkID(c); err != nil {
		return nil, err
	}
	seen, err := s.e.held(s.e.Key(c.Name))
	if err != nil {
		return nil, err
	}
	release, err := s.e.Store.Lock(ctx, lockName(s.e.Key(c.Name)))
	if err != nil {
		return nil, err
	}
	defer release()
	before, err := s.e.held(s.e.Key(c.Name))
	if err != nil {
		return nil, err
	}
	if seen != nil && before != nil && before.AccessToken != seen.AccessToken && before.Fresh(s.e.Now()) {
		return &Refreshed{Before: seen, After: before, Elsewhere: true, Rotated: before.RefreshToken != seen.RefreshToken}, nil
	}
	return s.refreshNow(ctx, c, before)
}

// refreshNow makes the request; the client's lock is held.
func (s *Session) refreshNow(ctx context.Context, c *project.Client, before *pouch.Set) (*Refreshed, error) {
	spend := ""
	if before != nil {
		spend = before.RefreshToken
	}
	if spend == "" && c.RefreshToken != nil {
		v, err := s.e.Project.Read(ctx, c.RefreshToken, s.e.Ask)
		if err != nil {
			return nil, err
		}
		spend = v
		s.e.Mask.Add(v)
	}
	if spend == "" {
		f := fault.New(fault.Settings, "there is no refresh token for %q", c.Name).At(c.Where)
		if before == nil {
			return nil, f.Hint("tidy-courier obtain %s", c.Name)
		}
		return nil, f.Hint("the server gave none; ask for the scope offline_access where it has that, and obtain again")
	}
	if err := s.readSecret(ctx, c); err != nil {
		return nil, err
	}
	if s.e.OnStart != nil {
		s.e.OnStart(s.Run)
	}
	m, err := s.metadata(ctx, c, "token_endpoint")
	if err != nil {
		return nil, err
	}
	auth, _, err := s.clientAuth(c, m)
	if err != nil {
		return nil, err
	}
	s.Evidence.RefreshOf = before
	got, err := s.redeem(ctx, c, m, oauth.TokenRequest{Grant: oauth.GrantRefresh, Auth: auth, RefreshToken: spend, Extra: c.Params("refresh")})
	if err != nil {
		return nil, err
	}
	return &Refreshed{Before: before, After: got.Set, Rotated: got.Set.RefreshToken != spend}, nil
}
