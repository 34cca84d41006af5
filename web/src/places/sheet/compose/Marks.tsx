import { Button } from 'antd';

const marks = [
  { label: 'Bold', show: <b>B</b>, before: '**', after: '**' },
  { label: 'Italic', show: <i>I</i>, before: '*', after: '*' },
  { label: 'Link', show: <u>L</u>, before: '[', after: '](https://)' },
  { label: 'A list', show: '•', before: '\n- ', after: '' },
];

/** Puts the marks of bold, italics, links and lists around what is selected. */
export function Marks({ wrap }: { wrap: (before: string, after: string) => void }) {
  return (
    <span className="marks" role="group" aria-label="Marks">
      {marks.map((m) => (
        <Button
          key={m.label}
          size="small"
          type="text"
          aria-label={m.label}
          title={m.label}
          onMouseDown={(e) => e.preventDefault()}
          onClick={() => wrap(m.before, m.after)}
        >
          {m.show}
        </Button>
      ))}
    </span>
  );
}
