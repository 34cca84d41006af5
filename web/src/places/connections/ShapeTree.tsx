import { Button, Input, Select, Switch } from 'antd';
import { RemoveButton } from '../../parts/RemoveButton';
import type { Name } from '../sheet/names';
import { noSurroundings, Surroundings } from '../sheet/surroundings';
import { ChipLine } from '../sheet/Values';
import {
  Digits,
  isNumber,
  keyRead,
  keyWritten,
  made,
  readShape,
  sortOf,
  sorts,
  writeShape,
  type Node,
  type Sort,
} from './shape';

const named = (group: string, names: [string, string, string?][]): Name[] =>
  names.map(([path, label, type]) => ({ path, label, type: type ?? 'text', group }));

/** What a shape sees of a post. */
const ofPost = named('The post', [
  ['post.title', 'Title'],
  ['post.text', 'Text'],
  ['post.facts', 'Facts', 'list'],
  ['post.tone', 'Tone'],
  ['post.link', 'Link'],
  ['post.links', 'Links', 'list'],
  ['post.picture', 'Picture'],
  ['post.sender.name', 'Sender’s name'],
  ['post.sender.picture', 'Sender’s picture'],
  ['post.mentions', 'Mentions', 'list'],
  ['post.all', 'Everything in one text'],
  ['post.secret', 'The secret in the body'],
  ['post.place', 'Place'],
  ['post.key', 'Key'],
  ['post.to', 'Number (text messages)'],
]);

const lists: Record<string, Name[]> = {
  'post.facts': named('The fact', [
    ['it.label', 'The fact’s label'],
    ['it.value', 'The fact’s value'],
  ]),
  'post.links': named('The link', [
    ['it.text', 'The link’s text'],
    ['it.to', 'The link’s address'],
  ]),
  'post.mentions': named('Who is mentioned', [['it', 'Who is mentioned']]),
};

/** A shape as a tree: groups, lists, texts with chips, what repeats and what stands under a condition. */
export default function ShapeTree({ value, change }: { value: string; change: (shape: string) => void }) {
  const root = readShape(value);
  if (root === undefined) return null;
  return (
    <div className="shapetree" role="group" aria-label="The body as a tree">
      <Place node={root} path="" names={ofPost} put={(n) => change(writeShape(n))} />
    </div>
  );
}

interface PlaceProps {
  node: Node;
  /** Where it is, as people read it: blocks[0].text. */
  path: string;
  names: Name[];
  put: (next: Node) => void;
  remove?: () => void;
}

function Place({ node, path, names, put, remove }: PlaceProps) {
  const sort = sortOf(node);
  const where = path || 'the whole';
  return (
    <span className="shape-place">
      <Select
        size="small"
        className="shape-sort"
        variant="borderless"
        aria-label={`What ${where} is`}
        popupMatchSelectWidth={false}
        value={sort}
        options={sorts.map((s) => ({ value: s, label: s }))}
        onChange={(s: Sort) => put(made(node, s))}
      />
      <Inside node={node} sort={sort} path={path} names={names} put={put} />
      {remove && <RemoveButton label={`Remove ${where}`} remove={remove} />}
    </span>
  );
}

function Inside({ node, sort, path, names, put }: PlaceProps & { sort: Sort }) {
  const where = path || 'the whole';
  switch (sort) {
    case 'text':
      return <Leaf label={`Text of ${where}`} value={node as string} names={names} change={put} />;
    case 'number':
      return (
        <Input
          size="small"
          className="shape-number"
          aria-label={`Number of ${where}`}
          defaultValue={(node as Digits).source}
          onChange={(e) => isNumber(e.target.value) && put(new Digits(e.target.value))}
        />
      );
    case 'yes or no':
      return (
        <Switch size="small" aria-label={`Yes or no of ${where}`} checked={node as boolean} onChange={put} />
      );
    case 'group':
      return <Group node={node as Record<string, Node>} path={path} names={names} put={put} />;
    case 'list':
      return <Items node={node as Node[]} path={path} names={names} put={put} />;
    case 'for each':
    case 'only when':
      return <Wrapped node={node as Record<string, Node>} sort={sort} path={path} names={names} put={put} />;
  }
  return null;
}

/** What repeats with its list, or what stands under a condition with that. */
function Wrapped({
  node,
  sort,
  path,
  names,
  put,
}: {
  node: Record<string, Node>;
  sort: Sort;
  path: string;
  names: Name[];
  put: (n: Node) => void;
}) {
  const [over, inner] = sort === 'for each' ? ['$each', '$as'] : ['$when', '$then'];
  const of = typeof node[over] === 'string' ? node[over] : '';
  const more = sort === 'for each' ? (lists[/^\$\{\s*(post\.\w+)\s*\}$/.exec(of)?.[1] ?? ''] ?? []) : [];
  return (
    <span className="shape-rows">
      <Leaf
        label={`${sort === 'for each' ? 'The list' : 'The condition'} of ${path || 'the whole'}`}
        value={of}
        names={names}
        change={(v) => put({ ...node, [over]: v })}
      />
      <Place
        node={node[inner] ?? ''}
        path={path ? `${path}, in it` : 'in it'}
        names={[...more, ...names]}
        put={(n) => put({ ...node, [inner]: n })}
      />
    </span>
  );
}

function Group({
  node,
  path,
  names,
  put,
}: {
  node: Record<string, Node>;
  path: string;
  names: Name[];
  put: (n: Node) => void;
}) {
  const rows = Object.entries(node);
  const set = (i: number, key: string, n: Node) =>
    put(Object.fromEntries(rows.map((r, at) => (at === i ? [key, n] : r))));
  return (
    <span className="shape-rows">
      {rows.map(([written, n], i) => {
        const key = keyRead(written);
        const at = path ? `${path}.${key}` : key;
        return (
          <span className="shape-row" key={`${i} ${written}`}>
            <Input
              size="small"
              className="shape-key mono"
              aria-label={`Name of ${at}`}
              defaultValue={key}
              onBlur={(e) => {
                const next = keyWritten(e.target.value.trim());
                if (next !== written && next !== '' && !(next in node)) set(i, next, n);
                else e.target.value = key;
              }}
            />
            <Place
              node={n}
              path={at}
              names={names}
              put={(v) => set(i, written, v)}
              remove={() => put(Object.fromEntries(rows.filter((_, other) => other !== i)))}
            />
          </span>
        );
      })}
      <Button size="small" type="link" onClick={() => put({ ...node, [free(node)]: '' })}>
        + part{path ? ` of ${path}` : ''}
      </Button>
    </span>
  );
}

/** A name that no part has yet. */
function free(node: Record<string, Node>): string {
  for (let n = 1; ; n++) {
    const name = n === 1 ? 'part' : `part${n}`;
    if (!(name in node)) return name;
  }
}

function Items({
  node,
  path,
  names,
  put,
}: {
  node: Node[];
  path: string;
  names: Name[];
  put: (n: Node) => void;
}) {
  return (
    <span className="shape-rows">
      {node.map((n, i) => (
        <span className="shape-row" key={`${i} of ${node.length}`}>
          <Place
            node={n}
            path={`${path}[${i}]`}
            names={names}
            put={(v) => put(node.map((other, at) => (at === i ? v : other)))}
            remove={() => put(node.filter((_, at) => at !== i))}
          />
        </span>
      ))}
      <Button size="small" type="link" onClick={() => put([...node, ''])}>
        + element{path ? ` of ${path}` : ''}
      </Button>
    </span>
  );
}

function Leaf({
  label,
  value,
  names,
  change,
}: {
  label: string;
  value: string;
  names: Name[];
  change: (v: string) => void;
}) {
  return (
    <Surroundings.Provider value={{ ...noSurroundings, all: names }}>
      <ChipLine id={`shape-${label}`} label={label} value={value} change={change} />
    </Surroundings.Provider>
  );
}
