package token

import (
	"crypto/sha256"
	"crypto/sha512"
	"encoding/base64"
	"fmt"
	"slices"
	"strings"
	"time"
)

func (t *Token) checkTime(now time.Time) Check {
	if t.Claims == nil {
		return Check{Skipped, "it has no claims", ""}
	}
	exp, ends := t.Time("exp")
	nbf, begins := t.Time("nbf")
	switch {
	case ends && !now.Before(exp.Add(Leeway)):
		return failed(CauseExpired, "it ended %s", exp.Format(time.RFC3339))
	case begins && now.Add(Leeway).Before(nbf):
		return failed(CauseNotYet, "it begins only %s", nbf.Format(time.RFC3339))
	case !ends && t.Claims["exp"] != nil:
		return failed(OddType, "its exp is not a number of seconds, so nobody can tell when it ends")
	case !ends:
		return Check{Pass, "it has no exp: it never ends", ""}
	case !now.Before(exp):
		return Check{Pass, fmt.Sprintf("it ended %s, within the %s that clocks may differ", exp.Format(time.RFC3339), Leeway), ""}
	}
	return Check{Pass, "it ends " + exp.Format(time.RFC3339), ""}
}

func (t *Token) checkIssuer(want string) Check {
	got := t.Text("iss")
	switch {
	case t.Claims == nil:
		return Check{Skipped, "it has no claims", ""}
	case want == "":
		return Check{Skipped, "nobody said which issuer to expect", ""}
	case got == "":
		return failed(CauseIssuer, "it has no iss; %s was expected", want)
	case got != want:
		return failed(CauseIssuer, "it is from %s; %s was expected, to the letter", got, want)
	}
	return Check{Pass, "it is from " + got, ""}
}

func (t *Token) checkAudience(want []string) Check {
	got := t.Audience()
	switch {
	case t.Claims == nil:
		return Check{Skipped, "it has no claims", ""}
	case len(want) == 0:
		return Check{Skipped, "nobody said which audience to expect", ""}
	case len(got) == 0:
		return failed(CauseAudience, "it has no aud; %s was expected", strings.Join(want, " or "))
	case !slices.ContainsFunc(want, func(w string) bool { return slices.Contains(got, w) }):
		return failed(CauseAudience, "it is for %s; %s was expected", strings.Join(got, ", "), strings.Join(want, " or "))
	}
	return Check{Pass, "it is for " + strings.Join(got, ", "), ""}
}

// AccessHash is the left half of an access token's hash (OpenID Connect Core
// 3.1.3.6), with the hash that the id token's algorithm names.
func AccessHash(alg, access string) string {
	var sum []byte
	switch {
	case strings.HasSuffix(alg, "384"):
		h := sha512.Sum384([]byte(access))
		sum = h[:]
	case strings.HasSuffix(alg, "512"), alg == "EdDSA":
		h := sha512.Sum512([]byte(access))
		sum = h[:]
	default:
		h := sha256.Sum256([]byte(access))
		sum = h[:]
	}
	return base64.RawURLEncoding.EncodeToString(sum[:len(sum)/2])
}
