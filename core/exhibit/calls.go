package exhibit

import (
	"net/url"
	"slices"
	"strings"

	"tidycourier/core/run"
)

// call makes a protected call a leg of a flow of its own; hops of a redirect
// stay together.
func (b *builder) call(p *piece) {
	raw := carried(p)
	for _, values := range p.x.Request.Header {
		for _, v := range values {
			if raw == "" && b.tokens[bare(v)] != nil {
				raw = bare(v)
			}
		}
	}
	if f := b.redirectedFrom(p); f != nil {
		b.leg(f, p)
		return
	}
	f := b.flow("", "", p)
	if from := b.tokens[raw]; from != nil {
		f.ClientID, f.Evidence.Answer, f.Evidence.AskedScope, f.Evidence.AnsweredAt = from.ClientID, from.Evidence.Answer, from.Evidence.AskedScope, from.Evidence.AnsweredAt
		f.Evidence.CarriesGrant = from.Grant
		if a := from.Evidence.Answer; a != nil {
			f.Evidence.CarriesRefresh, f.Evidence.CarriesID = raw == a.RefreshToken, raw == a.IDToken
		}
	}
	f.Evidence.Access = raw
	for _, api := range b.settings.APIs {
		if base := api.BaseURL.Value; base != "" && strings.HasPrefix(p.x.Request.URL, base) {
			f.Evidence.API = api
		}
	}
	f.Evidence.JSONWanted = strings.Contains(p.x.Request.Header.Get("Accept"), "json") && !strings.Contains(p.x.Request.Header.Get("Accept"), "text/html")
	b.leg(f, p)
}

func (b *builder) redirectedFrom(p *piece) *Flow {
	for _, f := range slices.Backward(b.Flows) {
		l := &f.Legs[len(f.Legs)-1]
		if l.Kind != run.Call || l.Status()/100 != 3 {
			continue
		}
		from, err := url.Parse(l.URL)
		if err != nil {
			continue
		}
		if to, err := from.Parse(l.Exchange.Response.Header.Get("Location")); err == nil && sameURL(to.String(), p.x.Request.URL) {
			return f
		}
	}
	return nil
}

// carried is the token of a call, wherever it stands.
func carried(p *piece) string {
	h := p.x.Request.Header
	if a := h.Get("Authorization"); a != "" {
		return bare(a)
	}
	if v := p.params.Get("access_token"); v != "" {
		return v
	}
	for name, values := range h {
		for _, v := range values {
			if !strings.EqualFold(name, "Cookie") && !strings.EqualFold(name, "DPoP") && strings.HasPrefix(bare(v), "eyJ") && strings.Count(v, ".") >= 2 {
				return bare(v)
			}
		}
	}
	return ""
}
