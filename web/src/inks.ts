/** The inks and papers of the ledger. The same names stand in styles/colours.css. */
export const inks = {
  ink: '#231f1a',
  muted: '#665d4e',
  rule: '#d9d0bc',
  paper: '#f5f0e3',
  page: '#fcf9f2',
  green: '#2c5e37',
  brass: '#7d5800',
  red: '#a3271c',
  leaf: '#fffdf7',
  pale: '#b9ae96',
  hint: '#6f6656',
  chosen: '#e6eadb',
  pointed: '#f1ecdd',
  track: '#ece5d3',
};
