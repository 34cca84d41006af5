import { Select, type SelectProps } from 'antd';

/**
 * A choice of several. In its open list the Tab key would take away, or add, what is pointed at; here it only goes on, and what was
 * chosen stays.
 */
export function Several<T>({ typed, ...rest }: Omit<SelectProps<T>, 'mode'> & { typed?: boolean }) {
  return (
    <span className="several" onKeyDownCapture={(e) => e.key === 'Tab' && e.stopPropagation()}>
      <Select<T> mode={typed ? 'tags' : 'multiple'} {...rest} />
    </span>
  );
}
