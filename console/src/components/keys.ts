import type { Schemas } from '../api/client'
import { t } from '../texts'
import type { Fact } from './Facts.vue'
import { never } from './words'

/** What is known of a key, an entry that authorises one, or a certificate. */
export function keyFacts(of: Schemas['Key']): Fact[] {
  const isKey = of.type && !of.lets && !of.principal && !of.subject
  return [
    { key: 'key-type', label: t('fields.type'), value: of.bits ? t('keys.bits', { type: of.type, bits: of.bits }) : of.type },
    { key: 'fingerprint', label: t('credentials.fingerprint'), value: of.fingerprint, mono: true },
    { key: 'lets', label: t('keys.lets'), value: of.lets },
    { key: 'only', label: t('keys.only'), value: of.options?.join('\n'), mono: true },
    { key: 'passphrase', label: t('keys.passphrase'), value: isKey ? (of.encrypted ? t('lists.yes') : t('keys.none')) : '' },
    {
      key: 'principal',
      label: t('keys.principal'),
      value: of.version ? t('keys.version', { principal: of.principal, n: of.version }) : of.principal,
    },
    { key: 'encryption', label: t('keys.encryption'), value: of.encryption?.join(', ') },
    {
      key: 'subject',
      label: t('keys.subject'),
      value: of.subject && of.comment ? t('keys.issued', { subject: of.subject, by: of.comment }) : of.subject,
    },
    { key: 'trouble', label: t('keys.trouble'), value: of.trouble },
    { key: 'names', label: t('keys.names'), value: of.names?.join(', ') },
    { key: 'key-begins', label: t('keys.begins'), value: never(of.begins) ? '' : 'there' },
    { key: 'key-used', label: t('keys.used'), value: never(of.used) ? '' : 'there' },
    { key: 'key-ends', label: t('credentials.ends'), value: never(of.ends) ? '' : 'there' },
    { key: 'number', label: t('keys.number'), value: of.key_id, mono: true },
    { key: 'mode', label: t('keys.mode'), value: of.mode, mono: true },
  ]
}
