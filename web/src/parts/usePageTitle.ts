import { useEffect } from 'react';

/** What the browser's tab and history say of a page: its heading, and whose page it is. */
export const titleOf = (heading: string | null | undefined) => {
  const words = (heading ?? '').replace(/\s+/g, ' ').trim();
  return words && words !== 'Dorfbote' ? `${words} · Dorfbote` : 'Dorfbote';
};

/** Keeps the document's title as the page's first heading. */
export function usePageTitle() {
  useEffect(() => {
    const tell = () => {
      const title = titleOf(document.querySelector('#root h1')?.textContent);
      if (document.title !== title) document.title = title;
    };
    let asked = 0;
    const observer = new MutationObserver(() => {
      asked ||= requestAnimationFrame(() => {
        asked = 0;
        tell();
      });
    });
    observer.observe(document.getElementById('root')!, {
      childList: true,
      subtree: true,
      characterData: true,
    });
    tell();
    return () => {
      observer.disconnect();
      cancelAnimationFrame(asked);
      document.title = 'Dorfbote';
    };
  }, []);
}
