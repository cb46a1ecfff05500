// A real authorization server on loopback, set up for the tests beside it.
// node server.mjs PORT [JWKS-FILE]; prints one line when it is ready. JWKS-FILE
// holds the public keys of the client that authenticates by assertion.
import { readFileSync } from 'node:fs';
import Provider, { errors } from 'oidc-provider';

const port = Number(process.argv[2]);
const jwks = process.argv[3] ? JSON.parse(readFileSync(process.argv[3])) : { keys: [] };
const issuer = `http://127.0.0.1:${port}`;
const callback = 'http://127.0.0.1:8653/callback';
const device = 'urn:ietf:params:oauth:grant-type:device_code';
const clients = [
  { client_id: 'desk', token_endpoint_auth_method: 'none', application_type: 'native', redirect_uris: ['http://127.0.0.1/landing'],
    grant_types: ['authorization_code', 'refresh_token'], response_types: ['code'] },
  { client_id: 'portal-basic', client_secret: 'kelp+brine/55&=%', token_endpoint_auth_method: 'client_secret_basic', redirect_uris: [callback],
    grant_types: ['authorization_code', 'refresh_token'], response_types: ['code'] },
  { client_id: 'portal-post', client_secret: 'rope & tar: 9+1', token_endpoint_auth_method: 'client_secret_post', redirect_uris: [callback],
    grant_types: ['authorization_code', 'refresh_token'], response_types: ['code'] },
  { client_id: 'job', client_secret: 'night*watch~7', redirect_uris: [], response_types: [], grant_types: ['client_credentials'] },
  { client_id: 'gadget', token_endpoint_auth_method: 'none', redirect_uris: [], response_types: [], grant_types: [device, 'refresh_token'] },
];
if (jwks.keys.length > 0) {
  clients.push({ client_id: 'signer', token_endpoint_auth_method: 'private_key_jwt', jwks, redirect_uris: [], response_types: [], grant_types: ['client_credentials'] });
}

const provider = new Provider(issuer, {
  clients,
  scopes: ['openid', 'offline_access', 'profile', 'gauges.read'],
  claims: { openid: ['sub'], profile: ['name'] },
  features: {
    clientCredentials: { enabled: true }, introspection: { enabled: true }, revocation: { enabled: true }, devInteractions: { enabled: true },
    deviceFlow: { enabled: true }, dPoP: { enabled: true }, pushedAuthorizationRequests: { enabled: true },
    resourceIndicators: {
      enabled: true,
      getResourceServerInfo: (_ctx, resource) => {
        if (resource !== 'https://gauges.tides.example') throw new errors.InvalidTarget();
        return { scope: 'gauges.read', audience: resource, accessTokenTTL: 1800, accessTokenFormat: 'jwt' };
      },
    },
  },
  pkce: { required: (_ctx, client) => client.tokenEndpointAuthMethod === 'none' || client.clientId === 'portal-post', methods: ['S256', 'plain'] },
  cookies: { keys: ['not a secret: everything here lives for one test'] },
  rotateRefreshToken: true,
  findAccount: (_ctx, id) => ({ accountId: id, claims: () => ({ sub: id, name: `Account ${id}` }) }),
});

provider.listen(port, '127.0.0.1', () => console.log(JSON.stringify({ issuer })));
