import { renderToStaticMarkup } from 'react-dom/server';
import { expect, it } from 'vitest';
import { MessageView } from './MessageView';

it('shows a record’s text as text, whatever it holds', () => {
  const html = renderToStaticMarkup(
    <MessageView
      doc={{
        title: '<img src=x onerror=alert(1)>',
        body: [{ kind: 'paragraph', inlines: [{ kind: 'text', text: '<script>alert(1)</script>' }] }],
        facts: [{ label: '<b>', value: '</dd>' }],
        tone: 'urgent',
        link: null,
      }}
    />,
  );
  expect(html).not.toMatch(/<img|<script|<b>/);
  expect(html).toContain('&lt;script&gt;');
  expect(html).toContain('Urgent');
});
