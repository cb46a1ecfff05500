package standin

import (
	"fmt"
	"net"
	"net/http"
	"net/url"
	"slices"
	"strconv"
	"strings"
	"time"
)

// tokenFaults change an answer of the token endpoint the way real providers
// get it wrong. Each returns true when it has answered.
var tokenFaults = map[string]func(w http.ResponseWriter, status int, answer map[string]any) bool{
	"token-html": func(w http.ResponseWriter, _ int, _ map[string]any) bool {
		return raw(w, 200, "text/html; charset=utf-8", "<!doctype html><html><head><title>Sign in to Northmark</title></head><body>Please sign in.</body></html>")
	},
	"token-form": func(w http.ResponseWriter, status int, answer map[string]any) bool {
		v := url.Values{}
		for k, x := range answer {
			v.Set(k, fmt.Sprint(x))
		}
		return raw(w, status, "text/plain", v.Encode())
	},
	"no-expires-in":       drop("expires_in"),
	"no-token-type":       drop("token_type"),
	"expires-in-text":     change("expires_in", func(v any) any { return fmt.Sprint(v) }),
	"expires-in-negative": change("expires_in", func(any) any { return -1 }),
	"no-refresh-token":    drop("refresh_token"),
	"scope-narrowed": change("scope", func(v any) any {
		first, _, _ := strings.Cut(fmt.Sprint(v), " ")
		return strings.TrimSuffix(first, ".read") + ".none"
	}),
	"error-with-200": func(w http.ResponseWriter, _ int, _ map[string]any) bool {
		writeJSON(w, 200, map[string]any{"error": "invalid_client", "error_description": "client authentication failed"})
		return true
	},
	"token-redirect": func(w http.ResponseWriter, _ int, _ map[string]any) bool {
		w.Header().Set("Location", "/signin")
		w.WriteHeader(http.StatusFound)
		return true
	},
	"server-error": func(w http.ResponseWriter, _ int, _ map[string]any) bool {
		return raw(w, 500, "text/plain", "internal error")
	},
	"unavailable": func(w http.ResponseWriter, _ int, _ map[string]any) bool {
		w.Header().Set("Retry-After", "120")
		return raw(w, 503, "text/plain", "closed for maintenance")
	},
	"rate-limit": func(w http.ResponseWriter, _ int, _ map[string]any) bool {
		w.Header().Set("Retry-After", "30")
		return raw(w, 429, "application/json", `{"error":"slow_down"}`)
	},
	"empty-answer": func(w http.ResponseWriter, status int, _ map[string]any) bool {
		return raw(w, status, "", "")
	},
	"truncated": func(w http.ResponseWriter, status int, answer map[string]any) bool {
		return raw(w, status, "application/json", fmt.Sprintf(`{"access_token":"%.40v`, answer["access_token"]))
	},
	"huge-answer": func(w http.ResponseWriter, _ int, _ map[string]any) bool {
		w.Header().Set("Content-Type", "application/json")
		chunk := []byte(strings.Repeat("x", 1<<20))
		for range 40 {
			if _, err := w.Write(chunk); err != nil {
				return true
			}
		}
		return true
	},
	"control-characters": func(w http.ResponseWriter, _ int, _ map[string]any) bool {
		writeJSON(w, 400, map[string]any{"error": "invalid_request", "error_description": "\x1b[2J\x1b]0;taken over\x07 all is well \u202eno"})
		return true
	},
}

// otherFaults act elsewhere than in the token answer.
var otherFaults = []string{"strict-auth-method", "state-dropped", "iss-mismatch", "redirect-wrong-port", "id-token-wrong-nonce", "id-token-wrong-audience", "unknown-kid", "userinfo-wrong-sub", "accept-any-scope", "refuse-lower-case-scheme", "clock-ahead", "clock-behind", "slow", "hang", "reset", "discovery-missing", "discovery-issuer-mismatch"}

// clockOff is how wrong the server's clock is.
func clockOff(faults map[string]bool) time.Duration {
	switch {
	case faults["clock-ahead"]:
		return 10 * time.Minute
	case faults["clock-behind"]:
		return -10 * time.Minute
	}
	return 0
}

// FaultNames lists every fault, sorted.
func FaultNames() []string {
	out := slices.Clone(otherFaults)
	for name := range tokenFaults {
		out = append(out, name)
	}
	for name := range lenientFaults {
		out = append(out, name)
	}
	slices.Sort(out)
	return out
}

func raw(w http.ResponseWriter, status int, contentType, body string) bool {
	if contentType != "" {
		w.Header().Set("Content-Type", contentType)
	} else {
		w.Header()["Content-Type"] = nil
	}
	w.WriteHeader(status)
	_, _ = w.Write([]byte(body))
	return true
}

func drop(member string) func(http.ResponseWriter, int, map[string]any) bool {
	return func(_ http.ResponseWriter, _ int, answer map[string]any) bool {
		delete(answer, member)
		return false
	}
}

func change(member string, f func(any) any) func(http.ResponseWriter, int, map[string]any) bool {
	return func(_ http.ResponseWriter, _ int, answer map[string]any) bool {
		if v, there := answer[member]; there {
			answer[member] = f(v)
		}
		return false
	}
}

// answerToken sends a token answer, through the faults that are on.
func (s *Server) answerToken(w http.ResponseWriter, r *http.Request, status int, answer map[string]any) {
	for name := range s.faults {
		if f := tokenFaults[name]; f != nil && f(w, status, answer) {
			return
		}
	}
	writeJSON(w, status, answer)
}

// disturb is the faults of the connection; they spare the metadata, so that a
// flow gets as far as the token endpoint or the API.
func (s *Server) disturb(next http.Handler) http.Handler {
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		spared := strings.HasPrefix(r.URL.Path, "/.well-known/")
		switch {
		case spared:
		case s.faults["slow"]:
			time.Sleep(2 * time.Second)
		case s.faults["hang"]:
			<-r.Context().Done()
			return
		case s.faults["reset"]:
			panic(http.ErrAbortHandler)
		}
		next.ServeHTTP(w, r)
	})
}

// nextDoor is an address with another port than its own, eight further or below.
func nextDoor(target string) string {
	u, err := url.Parse(target)
	if err != nil {
		return target
	}
	port, err := strconv.Atoi(u.Port())
	if err != nil {
		return target
	}
	if port += 8; port > 65535 {
		port -= 16
	}
	u.Host = net.JoinHostPort(u.Hostname(), strconv.Itoa(port))
	return u.String()
}
