import { answered, api, type Schemas } from '../../api/client';

export function act(id: string, action: Schemas['Action']) {
  return answered(api.POST('/api/v1/connectors/{id}/actions', { params: { path: { id } }, body: { action } }));
}

export function remove(id: string) {
  return answered(api.DELETE('/api/v1/connectors/{id}', { params: { path: { id } } }));
}
