import { Button } from 'antd';

interface Props {
  /** What it takes away, in words, for who cannot see where it stands: "Remove row 2". */
  label: string;
  remove: () => void;
}

/** The small × that takes something away at once; where it stands, the change can be undone. */
export function RemoveButton({ label, remove }: Props) {
  return (
    <Button type="text" size="small" className="remove" aria-label={label} onClick={remove}>
      ×
    </Button>
  );
}
