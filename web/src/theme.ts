import type { ThemeConfig } from 'antd';
import { inks } from './inks';

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
    colorTextPlaceholder: inks.hint,
    colorTextDescription: inks.muted,
    colorBgBase: inks.page,
    colorBgLayout: inks.paper,
    colorBgContainer: inks.leaf,
    colorBgElevated: inks.leaf,
    colorBorder: inks.pale,
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
    Select: { optionSelectedBg: inks.chosen, optionActiveBg: inks.pointed },
    Segmented: { itemSelectedBg: inks.page, trackBg: inks.track },
  },
};
