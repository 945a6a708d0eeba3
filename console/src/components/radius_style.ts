import type cytoscape from 'cytoscape'

/** A colour of the theme, as style.css and look/tokens.ts have it. */
export function colour(name: string): string {
  return getComputedStyle(document.documentElement).getPropertyValue(name).trim()
}

/** How things, systems and lines of the picture look. */
export function style(): cytoscape.StylesheetJson {
  const ink = colour('--ink')
  const line = colour('--soft')
  return [
    {
      selector: 'node',
      style: {
        shape: 'round-rectangle',
        width: 236,
        height: 28,
        label: 'data(label)',
        'text-valign': 'center',
        'text-halign': 'center',
        'font-size': 12,
        color: ink,
        'background-color': colour('--panel'),
        'border-width': 1,
        'border-color': line,
        'text-wrap': 'wrap',
        'text-max-width': '228px',
        'font-family': 'system-ui, "DejaVu Sans", sans-serif',
      },
    },
    {
      selector: 'node[kind = "account"]',
      style: {
        shape: 'ellipse',
        height: 44,
        'background-color': colour('--good-bg'),
        'border-color': colour('--moss'),
        'border-width': 2,
        'font-weight': 'bold',
        width: 190,
      },
    },
    {
      selector: 'node[kind = "system"]',
      style: { height: 50, 'background-color': colour('--plain-bg'), 'border-style': 'double', 'border-width': 4 },
    },
    { selector: 'node[of = "file"]', style: { shape: 'rectangle', 'border-style': 'dashed' } },
    { selector: 'node[?stale]', style: { 'background-color': colour('--warn-bg'), 'border-color': colour('--warn') } },
    { selector: 'node[?down]', style: { 'background-color': colour('--bad-bg'), 'border-color': colour('--bad'), 'border-width': 2 } },
    {
      selector: 'node[kind = "box"]',
      style: {
        shape: 'round-rectangle',
        'background-color': colour('--plain-bg'),
        'background-opacity': 0.55,
        'border-width': 0,
        'text-valign': 'top',
        'text-halign': 'center',
        'font-weight': 'bold',
        padding: '10px',
        'text-margin-y': -2,
      },
    },
    { selector: 'node:selected', style: { 'border-color': colour('--moss'), 'border-width': 3 } },
    {
      selector: 'edge',
      style: {
        width: 1.3,
        'line-color': line,
        'target-arrow-color': line,
        'target-arrow-shape': 'triangle',
        'arrow-scale': 0.8,
        'curve-style': 'bezier',
        label: 'data(label)',
        'font-size': 10,
        color: ink,
        'text-background-color': colour('--panel'),
        'text-background-opacity': 0.9,
        'text-background-padding': '2px',
        'text-rotation': 'none',
      },
    },
    { selector: 'edge[why = "observed"]', style: { 'line-style': 'dashed' } },
    { selector: 'edge[why = "declared"]', style: { 'line-style': 'dotted' } },
  ]
}
