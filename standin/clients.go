package standin

import "slices"

// Client is a registered client, in the shape the ready line prints.
type Client struct {
	ID           string   `json:"client_id"`
	Secret       string   `json:"client_secret,omitempty"`
	AuthMethod   string   `json:"token_endpoint_auth_method"`
	Grants       []string `json:"grants"`
	RedirectURIs []string `json:"redirect_uris"`

	scopes  []string // it may be granted
	roles   []string // application permissions it was given
	expired bool     // its secret is past its end
	signing string   // alg of its access tokens; "" for opaque ones
	life    int      // of its access tokens, in seconds
}

func (c *Client) may(grant string) bool { return slices.Contains(c.Grants, grant) }

// registered is every client. The secrets hold characters that Basic and form
// bodies must encode, since real ones do.
var registered = []Client{
	{ID: "nightly-forecast", Secret: "nf-9Qx2+Lw7/Tide~41=%", AuthMethod: "client_secret_basic", Grants: []string{"client_credentials"}, RedirectURIs: []string{},
		scopes: []string{"gauges.read"}, roles: []string{"Gauges.Read.All"}, signing: "RS256", life: 1800},
	{ID: "ledger-sync", Secret: "ls&4mRopes Tar:88+kelp", AuthMethod: "client_secret_post", Grants: []string{"client_credentials"}, RedirectURIs: []string{},
		scopes: []string{"gauges.read", "notices.write"}, roles: []string{"Notices.Write.All"}, signing: "ES256", life: 1800},
	{ID: "archive", Secret: "ar-71Dusty~Shelf", AuthMethod: "client_secret_basic", Grants: []string{}, RedirectURIs: []string{},
		scopes: []string{"gauges.read"}, signing: "RS256", life: 1800},
	{ID: "expired-app", Secret: "ex-03Old*Anchor", AuthMethod: "client_secret_basic", Grants: []string{"client_credentials"}, RedirectURIs: []string{},
		scopes: []string{"gauges.read"}, expired: true, signing: "RS256", life: 1800},
}

// Clients lists the registered clients.
func Clients() []Client { return slices.Clone(registered) }

func findClient(id string) *Client {
	for i := range registered {
		if registered[i].ID == id {
			return &registered[i]
		}
	}
	return nil
}
