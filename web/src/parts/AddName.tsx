import { Input } from 'antd';

interface Props {
  label: string;
  placeholder: string;
  /** Takes the name as it was typed, without blanks around it. */
  add: (name: string) => void;
}

/** Where a name is typed that is added with Enter. */
export function AddName({ label, placeholder, add }: Props) {
  return (
    <Input
      size="small"
      className="add-name"
      aria-label={label}
      placeholder={placeholder}
      onPressEnter={(e) => {
        const name = e.currentTarget.value.trim();
        if (name) add(name);
        e.currentTarget.value = '';
      }}
    />
  );
}
