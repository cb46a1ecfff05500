// A real authorization server on loopback, set up for the tests beside it.
// node server.mjs PORT; prints one line when it is ready.
import Provider from 'oidc-provider';

const port = Number(process.argv[2]);
const issuer = `http://127.0.0.1:${port}`;
const callback = 'http://127.0.0.1:8653/callback';

const provider = new Provider(issuer, {
  clients: [
    { client_id: 'desk', token_endpoint_auth_method: 'none', application_type: 'native', redirect_uris: ['http://127.0.0.1/landing'],
      grant_types: ['authorization_code', 'refresh_token'], response_types: ['code'] },
    { client_id: 'portal-basic', client_secret: 'kelp+brine/55&=%', token_endpoint_auth_method: 'client_secret_basic', redirect_uris: [callback],
      grant_types: ['authorization_code', 'refresh_token'], response_types: ['code'] },
    { client_id: 'portal-post', client_secret: 'rope & tar: 9+1', token_endpoint_auth_method: 'client_secret_post', redirect_uris: [callback],
      grant_types: ['authorization_code', 'refresh_token'], response_types: ['code'] },
    { client_id: 'job', client_secret: 'night*watch~7', redirect_uris: [], response_types: [], grant_types: ['client_credentials'] },
  ],
  scopes: ['openid', 'offline_access', 'profile', 'gauges.read'],
  claims: { openid: ['sub'], profile: ['name'] },
  features: { clientCredentials: { enabled: true }, introspection: { enabled: true }, revocation: { enabled: true }, devInteractions: { enabled: true } },
  pkce: { required: (_ctx, client) => client.tokenEndpointAuthMethod === 'none' || client.clientId === 'portal-post', methods: ['S256', 'plain'] },
  cookies: { keys: ['not a secret: everything here lives for one test'] },
  rotateRefreshToken: true,
  findAccount: (_ctx, id) => ({ accountId: id, claims: () => ({ sub: id, name: `Account ${id}` }) }),
});

provider.listen(port, '127.0.0.1', () => console.log(JSON.stringify({ issuer })));
