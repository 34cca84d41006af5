import { useMutation } from '@tanstack/react-query';
import { Button, Input, Select } from 'antd';
import { lazy, Suspense, useState } from 'react';
import { api, answerOf, type Schemas } from '../../api/client';
import { Trouble } from '../../parts/Trouble';
import { readShape, writeShape } from './shape';

// Its texts are those of sheets, which are no small part.
const ShapeTree = lazy(() => import('./ShapeTree'));

interface Props {
  id: string;
  value: string;
  change: (shape: string) => void;
  /** What goes with a body that was made of an example: how it is sent, and the secret in it. */
  also?: (settings: Record<string, string>) => void;
}

const indented = (shape: string) => {
  const read = readShape(shape);
  return read === undefined ? shape : writeShape(read);
};

type Role = Schemas['Leaf']['is'];

/** The body of a call: made of an example that the other side gives, corrected by choosing, or written. */
export function ShapeInput({ id, value, change, also }: Props) {
  const [open, setOpen] = useState(value === '');
  const [asText, setAsText] = useState(false);
  const [example, setExample] = useState('');
  const [chosen, setChosen] = useState<Record<string, Role>>({});
  const [always, setAlways] = useState<string[]>([]);
  const make = useMutation({
    mutationFn: (body: { example: string; chosen: Record<string, Role>; always: string[] }) =>
      answerOf(api.POST('/api/shapes/example', { body })),
    onSuccess: (made) => {
      if (!made.shape) return;
      change(indented(made.shape));
      const more: Record<string, string> = {};
      if (made.form) more.format = 'form fields';
      if (made.secret) more.body_secret = made.secret;
      if (Object.keys(more).length > 0) also?.(more);
    },
  });
  const read = (text: string, roles: Record<string, Role>, sent: string[] = []) => {
    setExample(text);
    setChosen(roles);
    setAlways(sent);
    if (text.trim()) make.mutate({ example: text, chosen: roles, always: sent });
    else make.reset();
  };
  const made = make.data;
  const tree = !asText && readShape(value) !== undefined;
  return (
    <div className="shapeinput">
      {open && (
        <div className="shape-example">
          <Input.TextArea
            aria-label="An example of the body"
            className="mono"
            rows={4}
            spellCheck={false}
            placeholder='Paste the body from the other side’s own description, such as {"title": "…", "text": "…"}'
            value={example}
            onChange={(e) => read(e.target.value, {})}
          />
          {make.error && <Trouble error={make.error} />}
          {made?.problem && <p className="bad">✕ {made.problem}</p>}
          {made?.form && <p className="muted small">These are form fields, so it is sent as such.</p>}
          {made?.secret && (
            <p className="muted small">
              The secret in it is kept sealed, as the connection’s secret in the body.
            </p>
          )}
          {made && (made.leaves ?? []).length > 0 && (
            <table className="ledger" aria-label="What its texts stand for">
              <tbody>
                {(made.leaves ?? []).map((l) => (
                  <tr key={l.path}>
                    <td className="mono small">{l.path || '(the whole)'}</td>
                    <td className="muted small">
                      {l.text}
                      {l.stays && <div className="brass">△ this very text would stand in every post</div>}
                    </td>
                    <td>
                      <Select
                        size="small"
                        className="side-select"
                        aria-label={`What ${l.path} stands for`}
                        popupMatchSelectWidth={false}
                        value={l.is}
                        options={(made.roles ?? []).map((r) => ({ value: r, label: r }))}
                        onChange={(r: Role) => read(example, { ...chosen, [l.path]: r }, always)}
                      />
                    </td>
                    <td>
                      {l.is !== 'as it is' && (
                        <Select
                          size="small"
                          aria-label={`Where ${l.path} is empty`}
                          popupMatchSelectWidth={false}
                          value={l.always ? 'always' : 'out'}
                          options={[
                            { value: 'out', label: 'left out where empty' },
                            { value: 'always', label: 'always sent' },
                          ]}
                          onChange={(how) =>
                            read(
                              example,
                              chosen,
                              how === 'always'
                                ? [...always, l.path]
                                : always.filter((path) => path !== l.path),
                            )
                          }
                        />
                      )}
                    </td>
                  </tr>
                ))}
              </tbody>
            </table>
          )}
        </div>
      )}
      {tree ? (
        <Suspense fallback={null}>
          <ShapeTree value={value} change={change} />
        </Suspense>
      ) : (
        <Input.TextArea
          id={id}
          className="mono"
          autoSize={{ minRows: 3, maxRows: 16 }}
          spellCheck={false}
          value={value}
          onChange={(e) => change(e.target.value)}
        />
      )}
      {!asText && !tree && value.trim() !== '' && (
        <p className="muted small">This is no JSON yet, so that it is shown as text.</p>
      )}
      <Button size="small" type="link" aria-expanded={open} onClick={() => setOpen(!open)}>
        {open ? 'Write it yourself' : 'Make it of an example'}
      </Button>
      <Button size="small" type="link" onClick={() => setAsText(!asText)}>
        {asText ? 'Show it as a tree' : 'Show it as text'}
      </Button>
    </div>
  );
}
