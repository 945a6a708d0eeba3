import { theme } from 'ant-design-vue'

/** Everything that has a colour takes it from here; style.css hands the same to what we draw ourselves. */
export interface Colours {
  ground: string
  panel: string
  line: string
  ink: string
  soft: string
  moss: string
  mossBg: string
  good: string
  warn: string
  bad: string
  unknown: string
  goodBg: string
  warnBg: string
  badBg: string
  unknownBg: string
  plainBg: string
}

/** Chosen for a contrast of 4.5 to 1 and more on every ground that they stand on, 7 to 1 for text. */
export const colours: Record<'light' | 'dark', Colours> = {
  light: {
    ground: '#f3f5f0',
    panel: '#ffffff',
    line: '#d6dece',
    ink: '#1a2318',
    soft: '#4a5845',
    moss: '#35592f',
    mossBg: '#e4eedd',
    good: '#2c5926',
    warn: '#735000',
    bad: '#962818',
    unknown: '#3d5468',
    goodBg: '#e2eedb',
    warnBg: '#f7ebcd',
    badBg: '#f9e1db',
    unknownBg: '#e5ecf2',
    plainBg: '#e9ede5',
  },
  dark: {
    ground: '#0f140e',
    panel: '#171e15',
    line: '#2d3929',
    ink: '#e4ebdd',
    soft: '#b5c1ab',
    moss: '#a5c98a',
    mossBg: '#22331c',
    good: '#abd38d',
    warn: '#e3c275',
    bad: '#f2ab9b',
    unknown: '#a9c2d6',
    goodBg: '#21321b',
    warnBg: '#393019',
    badBg: '#40221b',
    unknownBg: '#1f2c36',
    plainBg: '#253021',
  },
}

/** For parts that are neither good nor bad: told apart by hue and lightness. */
export const hues: Record<'light' | 'dark', string[]> = {
  light: ['#35592f', '#7d9d6b', '#3d5468', '#8aa4b8', '#6b5b3e', '#b3a27f'],
  dark: ['#86ad6c', '#c4dcb0', '#7c9db6', '#c3d5e2', '#b39b6b', '#e3d3ac'],
}

/** The theme of the component library. */
export function themeOf(dark: boolean, dense: boolean) {
  const c = colours[dark ? 'dark' : 'light']
  return {
    algorithm: [dark ? theme.darkAlgorithm : theme.defaultAlgorithm, ...(dense ? [theme.compactAlgorithm] : [])],
    token: {
      colorPrimary: dark ? '#86ad6c' : '#3c6635',
      colorPrimaryBg: c.mossBg,
      colorPrimaryBgHover: c.mossBg,
      colorLink: c.moss,
      colorLinkHover: c.ink,
      colorLinkActive: c.ink,
      colorBgBase: dark ? '#141a13' : '#ffffff',
      colorBgLayout: c.ground,
      colorBgContainer: c.panel,
      colorBgElevated: dark ? '#1c2419' : '#ffffff',
      colorTextBase: c.ink,
      colorText: c.ink,
      colorTextHeading: c.ink,
      colorTextSecondary: c.soft,
      colorTextDescription: c.soft,
      colorTextLabel: c.soft,
      colorTextPlaceholder: dark ? '#98a590' : '#646f5e',
      colorTextTertiary: c.soft,
      colorTextQuaternary: dark ? '#98a590' : '#646f5e',
      colorTextDisabled: dark ? '#98a590' : '#646f5e',
      colorIcon: c.soft,
      colorBorder: dark ? '#4c5a46' : '#b9c5af',
      colorBorderSecondary: c.line,
      colorSplit: c.line,
      colorSuccess: dark ? '#86ad6c' : '#3c6635',
      colorWarning: dark ? '#d6b25e' : '#8a6100',
      colorError: dark ? '#f09a87' : '#a8321f',
      colorInfo: dark ? '#8fb0c9' : '#41617c',
      colorSuccessBg: c.goodBg,
      colorSuccessBorder: c.good,
      colorWarningBg: c.warnBg,
      colorWarningBorder: c.warn,
      colorErrorBg: c.badBg,
      colorErrorBorder: c.bad,
      colorInfoBg: c.unknownBg,
      colorInfoBorder: c.unknown,
      colorTextLightSolid: dark ? '#0f150d' : '#ffffff',
      fontFamily: "system-ui, 'Segoe UI', 'DejaVu Sans', sans-serif",
      borderRadius: 5,
      fontSize: 14,
      controlHeight: dense ? 28 : 32,
      motion: false,
      wireframe: false,
    },
    components: { Progress: { colorInfo: c.moss }, Menu: { itemMarginInline: 6 } },
  }
}
