/** Where a model goes: each destination takes a format, and where the format leaves them open axis and unit. */
export const PLACES = [
  { name: 'any', format: 'glb', up: 'y', unit: 'm', group: 'model' },
  { name: 'game', format: 'game', up: 'y', unit: 'm', group: 'model' },
  { name: 'film', format: 'usdz', up: 'y', unit: 'm', group: 'model' },
  { name: 'modelling', format: 'obj', up: 'y', unit: 'm', group: 'model' },
  { name: 'measuring', format: 'ply', up: 'z', unit: 'm', group: 'model' },
  { name: 'printing', format: '3mf', up: 'z', unit: 'mm', group: 'model' },
  { name: 'solid', format: 'stl', up: 'z', unit: 'mm', group: 'model' },
  { name: 'somebody', format: 'view', up: 'y', unit: 'm', group: 'look' },
  { name: 'turning', format: 'film', up: 'z', unit: 'm', group: 'look' },
  { name: 'cloud', format: 'cloud', up: 'z', unit: 'm', group: 'cloud' },
  { name: 'survey', format: 'las', up: 'z', unit: 'm', group: 'cloud' },
  { name: 'scanning', format: 'e57', up: 'z', unit: 'm', group: 'cloud' },
  { name: 'cameras', format: 'cameras', up: 'z', unit: 'm', group: 'cloud' },
] as const

export const GROUPS = ['model', 'look', 'cloud'] as const
