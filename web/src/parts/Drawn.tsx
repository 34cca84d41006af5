import { useQuery } from '@tanstack/react-query';
import { api, answerOf, type Schemas } from '../api/client';

type Figures = Pick<Schemas['Picture'], 'chart' | 'grid' | 'text'>;

/** A chart or a table, drawn of its figures as those who are told get it. */
export function Drawn({ picture }: { picture: Figures }) {
  const drawn = useQuery({
    queryKey: ['drawn', picture.chart, picture.grid],
    queryFn: ({ signal }) =>
      answerOf(api.POST('/api/pictures', { body: { chart: picture.chart, grid: picture.grid }, signal })),
    staleTime: Infinity,
    gcTime: 60_000,
  });
  if (drawn.error) return <p className="bad small">✕ {drawn.error.message}</p>;
  if (!drawn.data) return <p className="muted small">{picture.text}</p>;
  return (
    <img
      className="post-picture is-drawn"
      src={`data:image/png;base64,${drawn.data.png}`}
      alt={picture.text}
      title={picture.text}
    />
  );
}
