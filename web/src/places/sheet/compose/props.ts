import type { Ref } from 'react';
import type { ChipHandle } from './Handle';

/** What a text with chips is given. */
export interface ChipInputProps {
  id: string;
  label: string;
  value: string;
  change: (next: string) => void;
  /** Whether the text may have several lines. */
  lines?: boolean;
  readOnly: boolean;
  /** It is words, in which a chip stands apart from what is before it. */
  words?: boolean;
  /** Bold, italics, links and lists are shown as what they are. */
  marks?: boolean;
  handle?: Ref<ChipHandle>;
}
