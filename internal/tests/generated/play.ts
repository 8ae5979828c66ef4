// Opens a session and plays in it through a client of the HTTP API that is made from the service's document alone.
import createClient from 'openapi-fetch';

import type { components, paths } from './made/service.js';

const [address = '', source = ''] = process.argv.slice(2);
const service = createClient<paths>({ baseUrl: address });

// must returns the data of an answer, or ends with the problem that the service tells of.
function must<T>(answer: { data?: T; error?: components['schemas']['Problem'] }): T {
  if (answer.data === undefined) throw new Error(answer.error?.detail ?? 'no answer');
  return answer.data;
}

const version = must(await service.POST('/api/contracts', { body: { file: 'dive.kam', source } }));
const session = must(await service.POST('/api/sessions', { body: { contract: version.contract } }));
const path = { id: session.id };
const client = must(await service.POST('/api/sessions/{id}/clients', { params: { path }, body: { name: 'Ana' } }));
const mine = { ...path, client: client.number };
const link = must(
  await service.POST('/api/sessions/{id}/clients/{client}/link', {
    params: { path: mine },
    body: { delay_ms: 5, jitter_ms: 0, loss: 0, reorder: 0, bandwidth: 0, cut: false },
  }),
);
const missing = await service.GET('/api/sessions/{id}', { params: { path: { id: 999_999 } } });
const seats = must(await service.GET('/api/sessions/{id}/clients', { params: { path } }));
const ended = must(await service.POST('/api/sessions/{id}/close', { params: { path }, body: { reason: 'done' } }));

console.log(
  JSON.stringify({
    session: session.id,
    client: client.name,
    delay: link.delay_ms,
    missing: missing.error?.status,
    seats: seats.length,
    reason: ended.close_reason,
  }),
);
