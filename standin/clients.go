package standin

import "slices"

// Client is a registered client, in the shape the ready line prints.
type Client struct {
	ID           string   `json:"client_id"`
	Secret       string   `json:"client_secret,omitempty"`
	AuthMethod   string   `json:"token_endpoint_auth_method"`
	Grants       []string `json:"grants"`
	RedirectURIs []string `json:"redirect_uris"`

	RefreshToken string `json:"refresh_token,omitempty"` // handed out at registration

	scopes  []string // it may be granted
	roles   []string // application permissions it was given
	expired bool     // its secret is past its end
	signing string   // alg of its access tokens; "" for opaque ones
	life    int      // of its access tokens, in seconds

	signedUserinfo bool // its userinfo answers are signed
}

func (c *Client) may(grant string) bool { return slices.Contains(c.Grants, grant) }

// registered is every client. The secrets hold characters that Basic and form
// bodies must encode, since real ones do.
var registered = []Client{
	{ID: "pilot-desk", AuthMethod: "none", Grants: []string{"authorization_code", "implicit", "refresh_token"}, RedirectURIs: []string{"http://127.0.0.1:8651/landing", "http://[::1]:8651/landing", "http://localhost:8651/landing"},
		scopes: personScopes, signing: "RS256", life: 1800},
	{ID: "harbour-portal", Secret: "hp/2Gang~Way+55&=", AuthMethod: "client_secret_basic", Grants: []string{"authorization_code", "refresh_token"}, RedirectURIs: []string{"http://127.0.0.1:8652/portal/callback", "https://portal.tides.example/callback"},
		scopes: append([]string{"notices.write"}, personScopes...), signing: "ES256", life: 1800, signedUserinfo: true},
	{ID: "kiosk", AuthMethod: "none", Grants: []string{"password", "refresh_token"}, RedirectURIs: []string{}, scopes: []string{"gauges.read", "offline_access"}, life: 120},
	{ID: "relay", Secret: "rl-8Bell+Buoy~62", AuthMethod: "client_secret_basic", Grants: []string{"refresh_token"}, RedirectURIs: []string{}, RefreshToken: "rt-relay-4Kd8vQmHandedOver",
		scopes: []string{"gauges.read", "offline_access"}, signing: "RS256", life: 1800},
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

// personScopes is what clients with a person may be granted.
var personScopes = []string{"openid", "profile", "offline_access", "gauges.read"}

// User is an account at the authorization server.
type User struct {
	Name     string `json:"username"`
	Password string `json:"password"`

	fullName string
	harbours []string
	granted  []string // clients it agreed to in the past
}

var accounts = []User{
	{Name: "pilot", Password: "high-water-77", fullName: "Pia Lotse", harbours: []string{"skarvik", "ternby"}, granted: []string{"harbour-portal"}},
	{Name: "keeper", Password: "lamp-oil-31", fullName: "Kai Peper", harbours: []string{"skarvik"}, granted: []string{"harbour-portal"}},
	{Name: "visitor", Password: "fog-bell-90", fullName: "Vis Itor", harbours: []string{"mirvag"}},
}

// Users lists the accounts.
func Users() []User { return slices.Clone(accounts) }

func findUser(name string) *User {
	for i := range accounts {
		if accounts[i].Name == name {
			return &accounts[i]
		}
	}
	return nil
}

func findClient(id string) *Client {
	for i := range registered {
		if registered[i].ID == id {
			return &registered[i]
		}
	}
	return nil
}
