package cli_test

import (
	"fmt"
	"html"
	"io"
	"net/http"
	"net/http/cookiejar"
	"net/url"
	"os"
	"regexp"
	"strings"
)

// browse is a person with a very small browser: it opens a URL, signs in as the
// account named by $AS (with $PASSWORD), agrees unless $REFUSE is set, and
// follows the redirects to the end.
func browse() {
	target := os.Args[len(os.Args)-1]
	if dump := os.Getenv("BROWSE_LOG"); dump != "" {
		_ = os.WriteFile(dump, []byte(target), 0o600) // a test that reads it fails without it
	}
	jar, _ := cookiejar.New(nil) // never fails
	c := &http.Client{Jar: jar, CheckRedirect: func(*http.Request, []*http.Request) error { return http.ErrUseLastResponse }}
	resp, err := c.Get(target)
	for hop := 0; err == nil && hop < 12; hop++ {
		raw, _ := io.ReadAll(resp.Body)
		_ = resp.Body.Close()
		page := string(raw)
		if at := resp.Header.Get("Location"); at != "" {
			next, bad := resp.Request.URL.Parse(at)
			if bad != nil {
				break
			}
			if next.Fragment != "" { // what the landing page's script does
				resp, err = c.PostForm(next.Scheme+"://"+next.Host+next.Path, url.Values{"landing_fragment": {"#" + next.EscapedFragment()}})
				continue
			}
			resp, err = c.Get(next.String())
			continue
		}
		form, action := fields(page)
		if action == "" {
			fmt.Println(page)
			return
		}
		switch action {
		case "/signin":
			form.Set("username", os.Getenv("AS"))
			form.Set("password", os.Getenv("PASSWORD"))
			form.Set("act", "signin")
		case "/consent":
			form.Set("act", "agree")
			if os.Getenv("REFUSE") != "" {
				form.Set("act", "refuse")
			}
		}
		to, bad := resp.Request.URL.Parse(action)
		if bad != nil {
			break
		}
		resp, err = c.PostForm(to.String(), form)
	}
	fmt.Fprintln(os.Stderr, "browse: gave up:", err)
	os.Exit(1)
}

var (
	actionPattern = regexp.MustCompile(`<form method="post" action="([^"]+)"`)
	hiddenPattern = regexp.MustCompile(`<input type="hidden" name="([^"]+)" value="([^"]*)"`)
)

func fields(page string) (url.Values, string) {
	m := actionPattern.FindStringSubmatch(page)
	if m == nil || strings.Contains(page, "landing_fragment") {
		return nil, ""
	}
	form := url.Values{}
	for _, h := range hiddenPattern.FindAllStringSubmatch(page, -1) {
		form.Set(h[1], html.UnescapeString(h[2]))
	}
	return form, html.UnescapeString(m[1])
}
