package standin

import (
	"fmt"
	"strings"
)

// CourierFile is a ready courier file for this very server.
func (s *Server) CourierFile() []byte {
	return []byte(strings.ReplaceAll(courierFile, "@HOST@", s.cfg.Issuer))
}

// EnvFile is the .env that goes with CourierFile.
func (s *Server) EnvFile() []byte {
	var b strings.Builder
	b.WriteString("# Secrets of the simulated Northmark Tide Office. Nothing here is real.\n")
	for _, c := range registered {
		if c.Secret != "" {
			fmt.Fprintf(&b, "%s='%s'\n", envNames[c.ID], c.Secret)
		}
	}
	fmt.Fprintf(&b, "RELAY_REFRESH_TOKEN='%s'\nKIOSK_PASSWORD='%s'\n", findClient("relay").RefreshToken, findUser("keeper").Password)
	return []byte(b.String())
}

var envNames = map[string]string{"nightly-forecast": "NIGHTLY_SECRET", "ledger-sync": "LEDGER_SECRET", "archive": "ARCHIVE_SECRET",
	"expired-app": "EXPIRED_SECRET", "harbour-portal": "PORTAL_SECRET", "relay": "RELAY_SECRET"}

const courierFile = `version: 1

values:
  host: @HOST@
  harbour: skarvik

stages:
  ternby: { harbour: ternby }             # the same office, seen from the other harbour
  production: { host: "https://tides.example", harbour: ternby }

servers:
  northmark:
    issuer: ${host}                       # endpoints come from its metadata

clients:
  pilot-desk:                             # a person signs in
    server: northmark
    client_id: pilot-desk
    token_endpoint_auth_method: none
    grant: authorization_code
    redirect_uri: http://127.0.0.1:8651/landing
    scope: [openid, profile, offline_access, gauges.read]
  harbour-portal:                         # a person signs in at a web application
    server: northmark
    client_id: harbour-portal
    client_secret: { env: PORTAL_SECRET }
    token_endpoint_auth_method: client_secret_basic
    grant: authorization_code
    redirect_uri: http://127.0.0.1:8652/portal/callback
    scope: [openid, offline_access, gauges.read]
  kiosk:                                  # signs in with a stored password; short tokens
    server: northmark
    client_id: kiosk
    token_endpoint_auth_method: none
    grant: password
    username: keeper
    password: { env: KIOSK_PASSWORD }
    scope: [gauges.read, offline_access]
  relay:                                  # was handed a refresh token at registration
    server: northmark
    client_id: relay
    client_secret: { env: RELAY_SECRET }
    token_endpoint_auth_method: client_secret_basic
    grant: refresh_token
    refresh_token: { env: RELAY_REFRESH_TOKEN }
  nightly-forecast:                       # a job: no person
    server: northmark
    client_id: nightly-forecast
    client_secret: { env: NIGHTLY_SECRET }
    secret_expires: 2027-02-01
    token_endpoint_auth_method: client_secret_basic
    grant: client_credentials
    scope: [gauges.read]
    parameters:
      token: { audience: "${host}/api" }
  ledger-sync:                            # a job that may write
    server: northmark
    client_id: ledger-sync
    client_secret: { env: LEDGER_SECRET }
    token_endpoint_auth_method: client_secret_post
    grant: client_credentials
    scope: [gauges.read, notices.write]
  archive:                                # registered for no grant at all
    server: northmark
    client_id: archive
    client_secret: { env: ARCHIVE_SECRET }
    token_endpoint_auth_method: client_secret_basic
    grant: client_credentials
  expired-app:                            # its secret is past its end
    server: northmark
    client_id: expired-app
    client_secret: { env: EXPIRED_SECRET }
    token_endpoint_auth_method: client_secret_basic
    secret_expires: 2026-06-30
    grant: client_credentials

apis:
  gauges:
    base_url: ${host}/api
    client: nightly-forecast
    headers: { Accept: application/json, Harbour-Id: "${harbour}" }
    needs: { audience: "${host}/api", scope: [gauges.read] }
  feed:
    base_url: ${host}/api
    client: nightly-forecast
    token_placement: { header: X-Gauge-Token, prefix: "" }

calls:
  stations:
    api: gauges
    request: GET /stations
    query: { since: "${now-30d}" }
    expect: { status: 200, media_type: application/json, json: { "$.stations[0].id": present } }
    keep: { station: "$.stations[0].id" } # usable afterwards as ${station}
  stations-refused:
    api: gauges
    request: GET /stations
    send_token: false
    expect: { status: 401, challenge: Bearer }
  readings:
    api: gauges
    request: GET /stations/${station}/readings
    query: { since: "${now-2d}" }
    expect: { status: 200, json: { "$.readings": { type: array }, "$.readings[0].level_m": { greater: "-5", less: "15" } }, within: 5s }
  harbours:
    api: gauges
    request: GET /harbours
    expect: { status: 200, json: { "$.harbours": { type: array }, "$.harbours[*].id": present } }
    keep:                                 # a choice among records
      home: { from: "$.harbours[*]", value: id, label: name, pick: { newest: updated_at } }
  me:
    api: gauges
    request: GET /me
  my-harbours:                            # what the person who signed in may see
    api: gauges
    request: GET /harbours
    client: pilot-desk
  stale-token:                            # sad paths: what must be refused
    api: gauges
    request: GET /stations
    token: garbled
    tags: [refusals]
    expect: { status: 401, challenge: { scheme: Bearer, error: invalid_token } }
  too-little-scope:
    api: gauges
    request: POST /notices
    body: { text: "never posted" }
    tags: [refusals]
    expect: { status: 403, challenge: { error: insufficient_scope, scope: [notices.write] } }
  post-notice:
    api: gauges
    request: POST /notices
    client: ledger-sync
    body: { text: "Quay closed ${today}" }
    needs: { scope: [notices.write] }
    expect: { status: 201 }
  notices:                                # what was posted; only those who may post see it
    api: gauges
    request: GET /notices
    client: ledger-sync
    needs: { scope: [notices.write] }
  latest-levels:
    api: feed
    request: GET /feed

rounds:
  morning: [stations-refused, stations, readings]
  watch:                                  # the same, and what must not work
    setup: [harbours]
    calls: [stations-refused, stale-token, too-little-scope, stations, readings, post-notice]
    cleanup: [me]
`
