import { api, ok, type Schemas } from '../../api/client'
import { word } from '../../parts/words'
import { $t } from '../../texts'

/** Which roles there are, and where each can be had. */
export const rolesThereAre = {
  queryKey: ['roles'],
  queryFn: () => ok(api.GET('/api/v1/roles')),
  staleTime: Infinity,
}

/** Says a role and where it is had. */
export function roleText(g: Schemas['RoleGrant']): string {
  let text = word(g.role)
  if (g.scope !== 'institution') {
    const name = g.scopeName || $t('settings.noMoreInRegister')
    text = $t('settings.roleIn', { role: text, scope: word(`scope-${g.scope}`), name })
  }
  if (g.issuer) text = $t('settings.roleForIssuer', { role: text, issuer: g.issuer })
  return g.provider ? $t('settings.byProvider', { role: text, provider: g.provider }) : text
}
