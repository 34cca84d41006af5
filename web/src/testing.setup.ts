import { afterEach, beforeEach, vi } from 'vitest';
import { browserParts } from './testing';

// Before and after each test: a page with all that a browser has, and nothing of the last one's.

beforeEach(browserParts);
afterEach(() => {
  vi.useRealTimers();
  vi.unstubAllGlobals();
  document.body.innerHTML = '';
});
