import type { Schemas } from '../../api/client';

/** What posts can go to over a connection that takes addresses, by how they are written. */
export const forms: Record<string, string> = {
  mail: 'any mail address',
  number: 'any telephone number',
  room: 'any room or person',
  '': 'any place',
};

/** Where posts can go over a connection, beside places that are listed. */
export const reached = (c: Schemas['ConnectionItem']): string[] =>
  c.sends && !c.sends.mute && !c.sends.listed ? [forms[c.sends.form] ?? 'any place'] : [];
