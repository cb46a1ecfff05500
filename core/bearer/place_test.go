package bearer

import (
	"errors"
	"mime"
	"mime/multipart"
	"net/http"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestPlaces(t *testing.T) {
	tests := []struct {
		name, method, url, contentType, body string
		p                                    Placement
		wantURL, wantBody, wantHeader, fails string
	}{
		{name: "header", method: "GET", url: "https://h/a", wantURL: "https://h/a", wantHeader: "Bearer t+1"},
		{name: "query", method: "GET", url: "https://h/a?x=1", p: Placement{Query: "access_token"}, wantURL: "https://h/a?x=1&access_token=t%2B1"},
		{name: "query, twice", method: "GET", url: "https://h/a?access_token=1", p: Placement{Query: "access_token"}, fails: "already has a query parameter"},
		{name: "form", method: "POST", url: "https://h/a", contentType: formType, body: "a=1", p: Placement{Form: "access_token"}, wantURL: "https://h/a", wantBody: "a=1&access_token=t%2B1"},
		{name: "form alone", method: "POST", url: "https://h/a", p: Placement{Form: "access_token"}, wantURL: "https://h/a", wantBody: "access_token=t%2B1"},
		{name: "form of a GET", method: "GET", url: "https://h/a", p: Placement{Form: "access_token"}, fails: "GET has none"},
		{name: "form beside JSON", method: "POST", url: "https://h/a", contentType: "application/json", body: "{}", p: Placement{Form: "access_token"}, fails: "application/json"},
	}
	for _, tt := range tests {
		t.Run(tt.name, func(t *testing.T) {
			h := http.Header{}
			if tt.contentType != "" {
				h.Set("Content-Type", tt.contentType)
			}
			u, body, err := tt.p.Place(tt.method, tt.url, h, []byte(tt.body), "t+1")
			if tt.fails != "" {
				assert.ErrorContains(t, err, tt.fails)
				return
			}
			require.NoError(t, err)
			assert.Equal(t, []string{tt.wantURL, tt.wantBody, tt.wantHeader}, []string{u, string(body), h.Get("Authorization")})
		})
	}
}

func TestUploads(t *testing.T) {
	files := map[string]string{"tides.csv": "a;b"}
	read := func(path string) ([]byte, error) {
		if text, there := files[path]; there {
			return []byte(text), nil
		}
		return nil, errors.New("gone")
	}
	body, contentType, err := UploadBody([]Pair{{"note", "high \"water\""}, {"file", "@tides.csv"}}, read)
	require.NoError(t, err)
	mt, params, err := mime.ParseMediaType(contentType)
	require.NoError(t, err)
	assert.Equal(t, "multipart/form-data", mt)
	form, err := multipart.NewReader(strings.NewReader(string(body)), params["boundary"]).ReadForm(1 << 20)
	require.NoError(t, err)
	assert.Equal(t, []string{`high "water"`}, form.Value["note"])
	assert.Equal(t, "tides.csv", form.File["file"][0].Filename)
	assert.Contains(t, form.File["file"][0].Header.Get("Content-Type"), "csv")
	_, _, err = UploadBody([]Pair{{"file", "@none"}}, read)
	assert.ErrorContains(t, err, "gone")
	plain, contentType := FormBody([]Pair{{"b", "1 2"}, {"a", "&="}})
	assert.Equal(t, []string{"b=1%202&a=%26%3D", formType}, []string{string(plain), contentType}, "the order stays")
}
