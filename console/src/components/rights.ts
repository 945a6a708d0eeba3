import type { Schemas } from '../api/client'
import { t } from '../texts'

export type Held = Schemas['HeldRight']
export type OfAccount = Schemas['AccountRights']

/** One line of the tree: a group with what it gives, or one right. */
export interface Node {
  key: string
  title: string
  /** What else must be so, or why it does not count. */
  more: string
  /** In the system's own language, and where it stands. */
  text: string
  group: boolean
  void: boolean
  children?: Node[]
}

/** What may be done, in words: "run /usr/bin/id on the system as root". */
export function words(r: Held): string {
  const parts = [
    r.may,
    r.what,
    r.on === 'the system' && r.what ? '' : t('rights.onWhat', { on: r.on }),
    r.as ? t('rights.as', { as: r.as }) : '',
  ]
  return parts.filter(Boolean).join(' ')
}

function leaf(r: Held, i: number): Node {
  const named = r.of_objects > 2 ? r.objects.map((o) => o.name).join(', ') + (r.of_objects > r.objects.length ? ', …' : '') : ''
  const more = [named, ...(r.terms ?? []), r.unsure ?? '', r.void ?? ''].filter(Boolean).join('; ')
  const text = [r.text, r.source ? t('rights.in', { source: r.source }) : ''].filter(Boolean).join(' ')
  return { key: `r${i}`, title: words(r), more, text, group: false, void: Boolean(r.void || r.deny) }
}

/**
 * The tree of what an account may do: what is given to itself, then each group where the chain to it goes, with what is given
 * there. A group that gives nothing, and leads to none that does, is kept: that it gives nothing is an answer too.
 */
export function tree(v: Pick<OfAccount, 'groups' | 'rights'>): Node[] {
  const own: Node = { key: 'own', title: t('rights.own'), more: '', text: '', group: true, void: false, children: [] }
  const groups = new Map<string, Node>()
  const top: Node[] = [own]
  for (const g of v.groups) {
    const links = g.path.slice(1)
    const last = links[links.length - 1]
    if (!last) continue
    const how = [last.how, last.term].filter(Boolean).join('; ')
    const node: Node = {
      key: `g${last.id}`,
      title: t(`rights.kinds.${g.kind}`, { name: g.name }),
      more: how,
      text: '',
      group: true,
      void: false,
      children: [],
    }
    groups.set(last.id, node)
    const above = links.length > 1 ? groups.get(links[links.length - 2]!.id) : undefined
    ;(above?.children ?? top).push(node)
  }
  v.rights.forEach((r, i) => {
    const last = r.path[r.path.length - 1]
    const at = r.path.length > 1 && last ? groups.get(last.id) : own
    ;(at ?? own).children!.push(leaf(r, i))
  })
  return own.children!.length ? top : top.slice(1)
}
