import { Button } from 'antd';

interface Paged {
  hasNextPage: boolean;
  isFetchingNextPage: boolean;
  fetchNextPage: () => unknown;
}

/** Reads a long list on. */
export function More({ of }: { of: Paged }) {
  if (!of.hasNextPage) return null;
  return (
    <Button onClick={() => void of.fetchNextPage()} loading={of.isFetchingNextPage}>
      Older ones
    </Button>
  );
}
