import './compose.css';
import { Button } from 'antd';
import type { Mark } from './Handle';

const marks: { mark: Mark; label: string; show: React.ReactNode }[] = [
  { mark: 'bold', label: 'Bold', show: <b>B</b> },
  { mark: 'italic', label: 'Italic', show: <i>I</i> },
  { mark: 'link', label: 'Link', show: <u>L</u> },
  { mark: 'list', label: 'A list', show: '•' },
];

/** Sets what is selected bold or italic, makes a link of it, or items of a list. */
export function Marks({ set, only }: { set: (mark: Mark) => void; only?: Mark[] }) {
  return (
    <span className="marks" role="group" aria-label="Marks">
      {marks
        .filter((m) => !only || only.includes(m.mark))
        .map((m) => (
          <Button
            key={m.label}
            size="small"
            type="text"
            aria-label={m.label}
            title={m.label}
            onMouseDown={(e) => e.preventDefault()}
            onClick={() => set(m.mark)}
          >
            {m.show}
          </Button>
        ))}
    </span>
  );
}
