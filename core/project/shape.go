package project

// The courier file's layout, as a table. The strict reader, the JSON Schema,
// the command-line flags and docs/courier-file.md are all made from it, so a
// field is added here and nowhere else.

// FieldKind is what a field's value may be.
type FieldKind string

const (
	kindText    FieldKind = "text"
	kindBool    FieldKind = "true or false"
	kindNumber  FieldKind = "number"
	kindDate    FieldKind = "date"
	kindList    FieldKind = "list of texts" // a single text stands for a list of one
	kindSecret  FieldKind = "secret source"
	kindTexts   FieldKind = "names and texts" // an open mapping of text to text
	kindMapping FieldKind = "mapping"
	kindNamed   FieldKind = "named entries" // an open mapping of name to Of
	kindStatus  FieldKind = "status"        // 200, 2xx, or a list of them
	kindJSON    FieldKind = "any value"
	kindEither  FieldKind = "text or mapping"  // a text stands for the mapping's first key
	kindEithers FieldKind = "names and either" // an open mapping of name to kindEither
	kindLength  FieldKind = "length of time"   // 800ms, 2s
)

// Field is one key of a mapping.
type Field struct {
	Name string
	Kind FieldKind
	Doc  string
	Enum []string
	Of   *Shape
	Flag string // command-line flag; "" derives it from the name, "-" means none
}

// Shape is a mapping with fixed keys.
type Shape struct {
	Name   string
	Fields []Field
}

func (s *Shape) field(name string) *Field {
	for i := range s.Fields {
		if s.Fields[i].Name == name {
			return &s.Fields[i]
		}
	}
	return nil
}

func (s *Shape) names() []string {
	out := make([]string, len(s.Fields))
	for i, f := range s.Fields {
		out[i] = f.Name
	}
	return out
}

// Grants the courier file knows.
var Grants = []string{"authorization_code", "client_credentials", "password", "refresh_token"}

// ServerShape is one entry of servers; names are those of RFC 8414 2.
var ServerShape = &Shape{Name: "server", Fields: []Field{
	{Name: "issuer", Kind: kindText, Doc: "the issuer; endpoints come from its metadata (RFC 8414, then OpenID Connect Discovery)"},
	{Name: "authorization_endpoint", Kind: kindText, Doc: "where a person signs in and agrees; wins over the metadata"},
	{Name: "token_endpoint", Kind: kindText, Doc: "where tokens are obtained; wins over the metadata"},
	{Name: "jwks_uri", Kind: kindText, Doc: "where the issuer's public keys are"},
	{Name: "userinfo_endpoint", Kind: kindText, Doc: "OpenID Connect userinfo"},
	{Name: "introspection_endpoint", Kind: kindText, Doc: "RFC 7662 introspection"},
	{Name: "revocation_endpoint", Kind: kindText, Doc: "RFC 7009 revocation"},
	{Name: "end_session_endpoint", Kind: kindText, Doc: "OpenID Connect logout"},
	{Name: "device_authorization_endpoint", Kind: kindText, Doc: "RFC 8628 device authorization"},
	{Name: "pushed_authorization_request_endpoint", Kind: kindText, Doc: "RFC 9126 pushed authorization requests", Flag: "par-endpoint"},
	{Name: "registration_endpoint", Kind: kindText, Doc: "RFC 7591 client registration"},
}}

var parametersShape = &Shape{Name: "parameters", Fields: []Field{
	{Name: "authorization", Kind: kindTexts, Doc: "extra parameters of the authorization request"},
	{Name: "token", Kind: kindTexts, Doc: "extra parameters of the token request"},
	{Name: "refresh", Kind: kindTexts, Doc: "extra parameters of the refresh request"},
}}

// ClientShape is one entry of clients; names are those of RFC 7591 2 where it has one.
var ClientShape = &Shape{Name: "client", Fields: []Field{
	{Name: "server", Kind: kindText, Doc: "the server it is registered at", Flag: "-"},
	{Name: "client_id", Kind: kindText, Doc: "the client identifier"},
	{Name: "client_secret", Kind: kindSecret, Doc: "the client secret", Flag: "secret"},
	{Name: "secret_expires", Kind: kindDate, Doc: "the day the secret expires (YYYY-MM-DD)"},
	{Name: "token_endpoint_auth_method", Kind: kindText, Doc: "how the client authenticates; chosen from the metadata when absent",
		Enum: []string{"client_secret_basic", "client_secret_post", "none"}, Flag: "auth-method"},
	{Name: "grant", Kind: kindText, Doc: "how it gets its tokens", Enum: Grants},
	{Name: "response_type", Kind: kindText, Doc: "code; token asks for the discouraged implicit form", Enum: []string{"code", "token"}},
	{Name: "response_mode", Kind: kindText, Doc: "how the authorization response comes back", Enum: []string{"query", "fragment", "form_post"}},
	{Name: "redirect_uri", Kind: kindText, Doc: "where the authorization response goes; must match the registration to the letter"},
	{Name: "scope", Kind: kindList, Doc: "the scope to ask for"},
	{Name: "code_challenge_method", Kind: kindText, Doc: "PKCE; S256 when absent", Enum: []string{"S256", "plain", "none"}},
	{Name: "username", Kind: kindText, Doc: "for the password grant"},
	{Name: "password", Kind: kindSecret, Doc: "for the password grant"},
	{Name: "refresh_token", Kind: kindSecret, Doc: "for a client that was handed one"},
	{Name: "parameters", Kind: kindMapping, Of: parametersShape, Doc: "extra request parameters, by leg", Flag: "-"},
}}

var needsShape = &Shape{Name: "needs", Fields: []Field{
	{Name: "audience", Kind: kindText, Doc: "the audience its tokens must carry"},
	{Name: "scope", Kind: kindList, Doc: "the scope its tokens must carry"},
	{Name: "roles", Kind: kindList, Doc: "the roles its tokens must carry"},
}}

var placementShape = &Shape{Name: "token_placement", Fields: []Field{
	{Name: "header", Kind: kindText, Doc: "the header the token travels in"},
	{Name: "prefix", Kind: kindText, Doc: "what stands before the token"},
	{Name: "query", Kind: kindText, Doc: "the query parameter the token travels in, as access_token; discouraged (RFC 9700 4.3.2)"},
	{Name: "form", Kind: kindText, Doc: "the form parameter the token travels in, as access_token (RFC 6750 2.2)"},
}}

var apiShape = &Shape{Name: "api", Fields: []Field{
	{Name: "base_url", Kind: kindText, Doc: "what call paths are put under"},
	{Name: "client", Kind: kindText, Doc: "who calls by default"},
	{Name: "headers", Kind: kindTexts, Doc: "headers of every call"},
	{Name: "token_placement", Kind: kindMapping, Of: placementShape, Doc: "where the token goes; Authorization: Bearer when absent"},
	{Name: "needs", Kind: kindMapping, Of: needsShape, Doc: "what its tokens must carry"},
}}

var expectShape = &Shape{Name: "expect", Fields: []Field{
	{Name: "status", Kind: kindStatus, Doc: "a status, a class such as 2xx, or a list of them"},
	{Name: "media_type", Kind: kindText, Doc: "the answer's media type"},
	{Name: "headers", Kind: kindEithers, Of: testShape, Doc: "header to present, absent, a value, or tests"},
	{Name: "challenge", Kind: kindEither, Of: challengeShape, Doc: "the scheme of the WWW-Authenticate challenge, or more of it"},
	{Name: "json", Kind: kindEithers, Of: testShape, Doc: "JSONPath to present, absent, the value it must equal, or tests"},
	{Name: "schema", Kind: kindText, Doc: "a JSON Schema file (draft 2020-12) that the body must fit, beside the courier file"},
	{Name: "within", Kind: kindLength, Doc: "how long the answer may take, as 800ms"},
}}

var testShape = &Shape{Name: "test", Fields: []Field{
	{Name: "equals", Kind: kindText, Doc: "the value"},
	{Name: "present", Kind: kindBool, Doc: "true: it is there; false: it is not"},
	{Name: "type", Kind: kindText, Doc: "its JSON type", Enum: []string{"string", "number", "integer", "boolean", "array", "object", "null"}},
	{Name: "matches", Kind: kindText, Doc: "a regular expression (RE2) that fits some part of it"},
	{Name: "count", Kind: kindText, Doc: "how many: the length of the array, or of what the path finds"},
	{Name: "greater", Kind: kindText, Doc: "a number or RFC 3339 time it lies above"},
	{Name: "less", Kind: kindText, Doc: "a number or RFC 3339 time it lies below"},
}}

var challengeShape = &Shape{Name: "challenge", Fields: []Field{
	{Name: "scheme", Kind: kindText, Doc: "Bearer, Basic and so on; case does not matter"},
	{Name: "error", Kind: kindText, Doc: "its error (RFC 6750 3.1)"},
	{Name: "scope", Kind: kindList, Doc: "the scope it names"},
}}

var keepShape = &Shape{Name: "keep", Fields: []Field{
	{Name: "from", Kind: kindText, Doc: "JSONPath to the value, or to the records to choose from"},
	{Name: "value", Kind: kindText, Doc: "the member of the record to keep"},
	{Name: "label", Kind: kindText, Doc: "the member to show when choosing"},
	{Name: "pick", Kind: kindEither, Of: pickShape, Doc: "ask (a list to choose from), first, only (an error when there are several), or { newest: MEMBER }"},
}}

var pickShape = &Shape{Name: "pick", Fields: []Field{
	{Name: "how", Kind: kindText, Doc: "ask, first or only", Enum: Picks},
	{Name: "newest", Kind: kindText, Doc: "the member whose latest time or highest number decides"},
}}

// Picks are the ways to choose among records, besides newest.
var Picks = []string{"ask", "first", "only"}

var retryShape = &Shape{Name: "retry", Fields: []Field{
	{Name: "times", Kind: kindNumber, Doc: "how often to try again"},
	{Name: "on", Kind: kindStatus, Doc: "the statuses that are worth another try; 429 and 503 when absent"},
	{Name: "wait", Kind: kindLength, Doc: "how long to wait before, unless the answer says (Retry-After); 1s when absent"},
}}

var asShape = &Shape{Name: "as", Fields: []Field{
	{Name: "client", Kind: kindText, Doc: "whose token to send"},
}}

// roundShape is a round written as a mapping; a list alone is its calls.
var roundShape = &Shape{Name: "round", Fields: []Field{
	{Name: "setup", Kind: kindList, Doc: "calls before the others; when one fails, none of the others runs"},
	{Name: "calls", Kind: kindList, Doc: "the calls, in order"},
	{Name: "cleanup", Kind: kindList, Doc: "calls after the others, also when some failed"},
	{Name: "jobs", Kind: kindNumber, Doc: "how many calls may run at once, where none needs what another keeps"},
}}

var callShape = &Shape{Name: "call", Fields: []Field{
	{Name: "api", Kind: kindText, Doc: "the API it belongs to"},
	{Name: "request", Kind: kindText, Doc: "METHOD PATH"},
	{Name: "client", Kind: kindText, Doc: "who calls, instead of the API's default"},
	{Name: "headers", Kind: kindTexts, Doc: "headers besides the API's"},
	{Name: "query", Kind: kindTexts, Doc: "query parameters, percent-encoded for you"},
	{Name: "body", Kind: kindJSON, Doc: "the request body: a text as it is, anything else as JSON"},
	{Name: "form", Kind: kindTexts, Doc: "a form body (application/x-www-form-urlencoded) in place of body"},
	{Name: "upload", Kind: kindTexts, Doc: "a multipart body (RFC 7578) in place of body: name to text, or to @FILE"},
	{Name: "send_token", Kind: kindBool, Doc: "false sends no token"},
	{Name: "as", Kind: kindMapping, Of: asShape, Doc: "who sends it in place of the API's own client: { client: NAME }"},
	{Name: "token", Kind: kindText, Doc: "send a token that must be refused", Enum: []string{"expired", "garbled"}},
	{Name: "tags", Kind: kindList, Doc: "words to choose calls of a round by"},
	{Name: "retry", Kind: kindMapping, Of: retryShape, Doc: "when to try again; never when absent"},
	{Name: "needs", Kind: kindMapping, Of: needsShape, Doc: "what its token must carry, besides the API's needs"},
	{Name: "expect", Kind: kindMapping, Of: expectShape, Doc: "what the answer must be"},
	{Name: "keep", Kind: kindEithers, Of: keepShape, Doc: "name to JSONPath, or to a choice among records: values usable afterwards as ${name}"},
}}

var journalShape = &Shape{Name: "journal", Fields: []Field{
	{Name: "keep_days", Kind: kindNumber, Doc: "days after which a run is dropped; 90 when absent"},
	{Name: "keep_mib", Kind: kindNumber, Doc: "MiB that this project's runs may take, the oldest being dropped; 256 when absent"},
}}

// fileShape is the whole file.
var fileShape = &Shape{Name: "courier file", Fields: []Field{
	{Name: "version", Kind: kindNumber, Doc: "1"},
	{Name: "values", Kind: kindTexts, Doc: "defaults for ${...}"},
	{Name: "stages", Kind: kindNamed, Doc: "sets of values laid over the defaults"},
	{Name: "servers", Kind: kindNamed, Of: ServerShape, Doc: "authorization servers"},
	{Name: "clients", Kind: kindNamed, Of: ClientShape, Doc: "registered clients"},
	{Name: "apis", Kind: kindNamed, Of: apiShape, Doc: "protected APIs"},
	{Name: "calls", Kind: kindNamed, Of: callShape, Doc: "saved calls"},
	{Name: "rounds", Kind: kindNamed, Doc: "lists of calls, or mappings with setup, calls and cleanup"},
	{Name: "journal", Kind: kindMapping, Of: journalShape, Doc: "how long recorded runs are kept"},
	{Name: "plain_http", Kind: kindList, Doc: "hosts that plain http may be sent to, besides loopback"},
}}

// IsSecret reports whether a field is a secret source.
func IsSecret(f Field) bool { return f.Kind == kindSecret }
