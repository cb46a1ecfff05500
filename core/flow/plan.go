package flow

import (
	"context"
	"net/url"
	"slices"

	"tidycourier/core/mask"
	"tidycourier/core/oauth"
	"tidycourier/core/project"
)

// GrantPlan is the first request of a grant, before it is sent.
type GrantPlan struct {
	Leg    string
	Method string
	URL    string // the whole authorization URL, or the token endpoint
	Header map[string]string
	Params []PlannedParam
}

// PlannedParam is one parameter with its source.
type PlannedParam struct {
	Name  string `json:"name"`
	Value string `json:"value"`
	Where string `json:"where"`
}

// PlanGrant prepares a grant's first request and says where each parameter
// comes from. Only metadata is fetched, and only where the settings leave the
// endpoint open. Secrets are masked.
func (s *Session) PlanGrant(ctx context.Context, c *project.Client, who *Person) (*GrantPlan, error) {
	s.about(c)
	if err := checkClient(c); err != nil {
		return nil, err
	}
	if c.Grant.Value == oauth.GrantCode {
		m, err := s.metadata(ctx, c, "authorization_endpoint")
		if err != nil {
			return nil, err
		}
		a, err := s.Authorization(c, m, who, c.RedirectURI.Value)
		if err != nil {
			return nil, err
		}
		target, err := a.Request.URL()
		if err != nil {
			return nil, err
		}
		return &GrantPlan{Leg: "authorization request", Method: "GET", URL: target, Params: authorizationParams(c, a)}, nil
	}
	return s.planToken(ctx, c)
}

func authorizationParams(c *project.Client, a *attempt) []PlannedParam {
	const fresh = "made anew for each run"
	places := map[string]string{"response_type": c.ResponseType.Where, "client_id": c.ClientID.Where, "redirect_uri": c.RedirectURI.Where,
		"scope": c.Scope.Where, "state": fresh, "nonce": fresh + " (for openid)", "response_mode": c.ResponseMode.Where, "code_challenge": "made from this run's verifier",
		"code_challenge_method": c.CodeChallengeMethod.Where, "prompt": "--prompt"}
	for _, n := range c.Parameters["authorization"] {
		places[n.Name] = n.Where
	}
	var out []PlannedParam
	for _, p := range a.Request.Params() {
		where := places[p.Name]
		if where == "" {
			where = "the default"
		}
		out = append(out, PlannedParam{p.Name, p.Value, where})
	}
	return out
}

func (s *Session) planToken(ctx context.Context, c *project.Client) (*GrantPlan, error) {
	if err := s.readSecret(ctx, c); err != nil {
		return nil, err
	}
	m, err := s.metadata(ctx, c, "token_endpoint")
	if err != nil {
		return nil, err
	}
	req, chosen, err := s.tokenRequest(c, m, "")
	if err != nil {
		return nil, err
	}
	header, body, err := req.Encode()
	if err != nil {
		return nil, err
	}
	places := map[string]string{"grant_type": c.Grant.Where, "client_id": c.ClientID.Where, "scope": c.Scope.Where, "username": c.Username.Where}
	if c.Secret != nil {
		places["client_secret"] = c.Secret.Where
	}
	for _, n := range c.Parameters["token"] {
		places[n.Name] = n.Where
	}
	plan := &GrantPlan{Leg: "token request", Method: "POST", URL: m.TokenEndpoint, Header: map[string]string{}}
	for name := range header {
		plan.Header[name] = s.e.Mask.Replace(mask.Header(name, header.Get(name), ""))
	}
	if chosen != "" {
		plan.Header["Authorization"] += "  (" + chosen + ")"
	}
	form, err := url.ParseQuery(string(body))
	if err != nil {
		return nil, err
	}
	for name := range form {
		plan.Params = append(plan.Params, PlannedParam{name, s.e.Mask.Replace(mask.Value(name, form.Get(name))), places[name]})
	}
	for _, more := range []struct {
		name   string
		secret *project.Secret
	}{{"password", c.Password}, {"refresh_token", c.RefreshToken}} {
		if more.secret != nil {
			plan.Params = append(plan.Params, PlannedParam{more.name, "[" + more.secret.Source() + "]", more.secret.Where})
		}
	}
	slices.SortFunc(plan.Params, func(a, b PlannedParam) int {
		if a.Name < b.Name {
			return -1
		}
		return 1
	})
	return plan, nil
}
