import { Button } from 'antd';
import { ApiError } from '../api/client';

/** Says what went wrong, in the server's words, and offers to try again. */
export function Trouble({ error, again }: { error: Error; again?: () => void }) {
  return (
    <div className="trouble" role="alert">
      <strong>That did not work.</strong> {error.message}
      {error instanceof ApiError && error.details.length > 0 && (
        <ul>
          {error.details.map((d) => (
            <li key={d}>{d}</li>
          ))}
        </ul>
      )}
      {again && (
        <Button size="small" onClick={again}>
          Try again
        </Button>
      )}
    </div>
  );
}
