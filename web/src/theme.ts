import type { ThemeConfig } from 'antd';

/** The inks and papers of the ledger. The same names stand in styles/base.css. */
export const inks = {
  ink: '#231f1a',
  muted: '#665d4e',
  rule: '#d9d0bc',
  paper: '#f5f0e3',
  page: '#fcf9f2',
  green: '#2c5e37',
  brass: '#7d5800',
  red: '#a3271c',
};

export const theme: ThemeConfig = {
  token: {
    colorPrimary: inks.green,
    colorInfo: inks.green,
    colorSuccess: inks.green,
    colorWarning: inks.brass,
    colorError: inks.red,
    colorText: inks.ink,
    colorTextSecondary: inks.muted,
    colorTextTertiary: inks.muted,
    colorTextPlaceholder: '#6f6656',
    colorTextDescription: inks.muted,
    colorBgBase: inks.page,
    colorBgLayout: inks.paper,
    colorBgContainer: '#fffdf7',
    colorBgElevated: '#fffdf7',
    colorBorder: '#b9ae96',
    colorBorderSecondary: inks.rule,
    colorLink: inks.green,
    borderRadius: 3,
    fontFamily: "'Source Sans 3 Variable', sans-serif",
    fontFamilyCode: "'JetBrains Mono Variable', monospace",
    fontSize: 14,
    controlHeight: 28,
    boxShadow: 'none',
    boxShadowSecondary: '0 2px 10px rgba(60, 48, 20, 0.14)',
    motion: !window.matchMedia('(prefers-reduced-motion: reduce)').matches,
  },
  components: {
    Button: { primaryShadow: 'none', defaultShadow: 'none', dangerShadow: 'none', fontWeight: 500 },
    Select: { optionSelectedBg: '#e6eadb', optionActiveBg: '#f1ecdd' },
    Segmented: { itemSelectedBg: inks.page, trackBg: '#ece5d3' },
  },
};
