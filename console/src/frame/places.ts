import {
  ApartmentOutlined,
  ApiOutlined,
  AppstoreOutlined,
  AuditOutlined,
  BellOutlined,
  BookOutlined,
  CalendarOutlined,
  ClusterOutlined,
  ControlOutlined,
  DashboardOutlined,
  DiffOutlined,
  DotChartOutlined,
  FileProtectOutlined,
  FileSearchOutlined,
  FieldTimeOutlined,
  HourglassOutlined,
  IdcardOutlined,
  KeyOutlined,
  LaptopOutlined,
  LinkOutlined,
  OrderedListOutlined,
  RadarChartOutlined,
  SafetyOutlined,
  SolutionOutlined,
  SwapOutlined,
  SyncOutlined,
  TagsOutlined,
  TeamOutlined,
  ToolOutlined,
  UnlockOutlined,
  UserSwitchOutlined,
  WarningOutlined,
} from '@ant-design/icons-vue'
import type { Component } from 'vue'

/** A page of the menu; its words are texts `places.<name>`. */
export interface Place {
  name: string
  path: string
  icon: Component
  /** Only for somebody with one of these roles. */
  roles?: string[]
}

export const groups: { name: string; places: Place[] }[] = [
  { name: '', places: [{ name: 'overview', path: '/', icon: DashboardOutlined }] },
  {
    name: 'estate',
    places: [
      { name: 'systems', path: '/systems', icon: ClusterOutlined },
      { name: 'accounts', path: '/accounts', icon: IdcardOutlined },
      { name: 'credentials', path: '/credentials', icon: KeyOutlined },
      { name: 'managed', path: '/managed', icon: SyncOutlined },
      { name: 'dependents', path: '/dependents', icon: ApartmentOutlined },
      { name: 'connections', path: '/connections', icon: LinkOutlined },
      { name: 'probes', path: '/probes', icon: ApiOutlined },
      { name: 'rights', path: '/rights', icon: UnlockOutlined },
      { name: 'charters', path: '/charters', icon: SolutionOutlined },
      { name: 'risks', path: '/risks', icon: DotChartOutlined },
      { name: 'expiry', path: '/expiry', icon: HourglassOutlined },
      { name: 'outlived', path: '/outlived', icon: FieldTimeOutlined },
      { name: 'surveys', path: '/surveys', icon: RadarChartOutlined },
      { name: 'changes', path: '/changes', icon: DiffOutlined },
    ],
  },
  {
    name: 'work',
    places: [
      { name: 'findings', path: '/findings', icon: WarningOutlined },
      { name: 'rotations', path: '/rotations', icon: SyncOutlined },
      { name: 'batches', path: '/batches', icon: AppstoreOutlined },
      { name: 'amendments', path: '/amendments', icon: ToolOutlined, roles: ['administrator', 'operator', 'auditor', 'approver'] },
      { name: 'approvals', path: '/approvals', icon: AuditOutlined },
    ],
  },
  {
    name: 'byItself',
    places: [
      { name: 'schedule', path: '/schedule', icon: CalendarOutlined },
      { name: 'policies', path: '/policies', icon: FileProtectOutlined },
      { name: 'windows', path: '/windows', icon: FieldTimeOutlined },
      { name: 'orders', path: '/orders', icon: OrderedListOutlined },
      { name: 'tandems', path: '/tandems', icon: SwapOutlined },
      { name: 'requirements', path: '/requirements', icon: UserSwitchOutlined },
      { name: 'messages', path: '/messages', icon: BellOutlined, roles: ['administrator', 'operator', 'auditor'] },
    ],
  },
  {
    name: 'assurance',
    places: [
      { name: 'ledger', path: '/ledger', icon: BookOutlined },
      { name: 'traces', path: '/traces', icon: FileSearchOutlined, roles: ['administrator', 'operator', 'auditor'] },
    ],
  },
  {
    name: 'running',
    places: [
      { name: 'people', path: '/people', icon: TeamOutlined, roles: ['administrator', 'auditor'] },
      { name: 'stewards', path: '/stewards', icon: ToolOutlined },
      { name: 'tokens', path: '/tokens', icon: SafetyOutlined },
      { name: 'sessions', path: '/sessions', icon: LaptopOutlined },
      { name: 'rules', path: '/rules', icon: TagsOutlined },
      { name: 'options', path: '/options', icon: ControlOutlined },
    ],
  },
]

/** Which place an address belongs to. */
export function placeOf(path: string): Place | undefined {
  const all = groups.flatMap((g) => g.places)
  return all
    .filter((p) => (p.path === '/' ? path === '/' : path === p.path || path.startsWith(p.path + '/')))
    .sort((a, b) => b.path.length - a.path.length)[0]
}
