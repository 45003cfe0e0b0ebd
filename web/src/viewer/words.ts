/** What the stand-alone viewer says; it has no catalogue beside it. */
const en = {
  split: 'Textured beside plain',
  measure: 'Measure',
  pick: 'Press two places of the model.',
  light: 'Light ',
  all: 'Show all',
  noWebgl: 'This browser cannot show 3D: WebGL is missing or switched off.',
  noScale: 'no scale',
  broken: 'The model in this file cannot be read.',
}
const de: typeof en = {
  split: 'Texturiert neben schlicht',
  measure: 'Messen',
  pick: 'Drücken Sie auf zwei Stellen des Modells.',
  light: 'Licht ',
  all: 'Alles zeigen',
  noWebgl: 'Dieser Browser kann kein 3D zeigen: WebGL fehlt oder ist abgeschaltet.',
  noScale: 'ohne Maßstab',
  broken: 'Das Modell in dieser Datei kann nicht gelesen werden.',
}

export function byLanguage(language: string) {
  return language.toLowerCase().startsWith('de') ? de : en
}
