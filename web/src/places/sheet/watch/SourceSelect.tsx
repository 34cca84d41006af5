import './watch.css';
import { Select } from 'antd';
import { useSources } from '../../../api/queries';
import { useSurroundings } from '../surroundings';

interface Props {
  value: string | undefined;
  change: (source: string | undefined) => void;
  label?: string;
  optional?: boolean;
}

/** Picks a source from those that are connected. */
export function SourceSelect({ value, change, label = 'Source', optional }: Props) {
  const sources = useSources();
  const { readOnly } = useSurroundings();
  return (
    <Select
      className="wide-select"
      aria-label={label}
      showSearch={{ optionFilterProp: 'search' }}
      disabled={readOnly}
      value={value || undefined}
      allowClear={optional}
      placeholder={optional ? 'none' : 'Choose a source'}
      popupMatchSelectWidth={false}
      options={(sources.data?.items ?? []).map((s) => ({
        value: s.source,
        search: `${s.source} ${s.title}`,
        label: s.source,
      }))}
      onChange={(s?: string) => change(s)}
    />
  );
}
