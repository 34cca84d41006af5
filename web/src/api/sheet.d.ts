/* Made of docs/schema/sheet.schema.json by "make types". */

/**
 * a group, a test or a formula
 *
 * This interface was referenced by `Sheet`'s JSON-Schema
 * via the `definition` "condition".
 */
export type Condition = Record<string, unknown>;
/**
 * a span such as 90s, 45m, 2h, 3d, 1h30m or PT90M
 *
 * This interface was referenced by `Sheet`'s JSON-Schema
 * via the `definition` "span".
 */
export type Span = string;
/**
 * @minItems 1
 *
 * This interface was referenced by `Sheet`'s JSON-Schema
 * via the `definition` "open".
 */
export type Open = {
  days?: string[];
  from?: string;
  to?: string;
}[];
/**
 * @minItems 1
 *
 * This interface was referenced by `Sheet`'s JSON-Schema
 * via the `definition` "tell".
 */
export type Tell = {
  /**
   * connection/place; the place may hold formulas, such as mail/${record.email}. person/… goes to the address that a person of the people book prefers
   */
  to: string;
  /**
   * further addresses over the same connection, for mail; an empty one is left out
   */
  cc?: string;
  /**
   * like cc, and seen by nobody else
   */
  bcc?: string;
  /**
   * a formula that gives a list: one post for each, which is called it
   */
  each?: string;
  /**
   * how many of the list are told
   */
  most?: number;
  /**
   * skip leaves the tell out where the address is empty
   */
  if_empty?: 'fail' | 'skip';
  message: string;
  /**
   * a message told in the thread of the first
   */
  reply?: string;
}[];
/**
 * text with formulas in ${ … }
 *
 * This interface was referenced by `Sheet`'s JSON-Schema
 * via the `definition` "template".
 */
export type Template = string;

/**
 * A workflow: what it watches, what it keeps, who is told, and what they read.
 */
export interface Sheet {
  dorfbote: 1;
  name: string;
  note?: string;
  look?: {
    icon?: string;
    colour?: string;
  };
  watch: {
    /**
     * connection/kind
     */
    source?: string;
    /**
     * @minItems 1
     */
    on?: ('created' | 'updated' | 'removed')[];
    when?: Condition;
    due?: {
      field: string;
      offset?: string;
      /**
       * by how much a moment may have passed when it becomes known, and still starts, at once; 1d where nothing is said
       */
      late?: string;
    };
    lasts?: {
      that: Condition;
      for: Span;
    };
    silent?: {
      for: Span;
      open?: Open;
    };
    schedule?: {
      /**
       * the first moment, as the clock in the zone shows it
       */
      start?: string;
      /**
       * an IANA time zone; the workspace's where nothing is said
       */
      zone?: string;
      /**
       * RFC 5545 recurrence rule
       */
      rule?: string;
      /**
       * five fields
       */
      cron?: string;
      /**
       * a source of calendar events whose days are left out
       */
      except?: string;
      /**
       * what becomes of moments that passed while nothing ran
       */
      missed?: 'once' | 'skip';
    };
    start?: {
      source?: string;
      ask?: Question[];
      confirm?: string;
    } | null;
    called?: {
      takes?: Question[];
    } | null;
  };
  keep?: Condition;
  gather?: {
    name: string;
    /**
     * a formula
     */
    value?: string | number | boolean;
    find?: {
      source: string;
      where?: Condition;
      take?: 'one' | 'all';
      /**
       * a field, with - before it for the greatest first
       */
      sort?: string;
      limit?: number;
    };
    /**
     * Starlark; what it sets as result
     */
    script?: string;
    http?: {
      /**
       * http:// or https://; each value put in is one piece of the address
       */
      url: string;
      method?: 'GET' | 'POST';
      headers?: {
        [k: string]: string;
      };
      /**
       * sent as JSON; formulas may stand in its texts
       */
      body?: unknown;
      /**
       * a JSONPath (RFC 9535) into the answer
       */
      pick?: string;
    };
    summary?: {
      /**
       * fields, or texts with formulas
       */
      of: string | string[];
      words?: number;
    };
    /**
     * what a failure leads to
     */
    if_fails?:
      | ('stop' | 'empty')
      | {
          tell: Tell;
        };
  }[];
  messages?: {
    [k: string]: Message;
  };
  route: {
    take?: 'first' | 'every';
    rows?: {
      name?: string;
      when: Condition;
      tell: Tell;
    }[];
    otherwise?: {
      tell: Tell;
    };
  };
  pace?: {
    repeat?: {
      key: Template;
      within: Span;
      then?: 'drop' | 'update' | 'reply';
    };
    quiet?: {
      open: Open;
      urgent?: 'hold' | 'pass';
    };
    /**
     * per destination; the rest is told in one digest at the end
     */
    limit?: {
      posts: number;
      per: Span;
    };
    digest?: {
      every?: Span;
      /**
       * times of the day
       */
      at?: string | string[];
    };
    /**
     * a span such as 90s, 45m, 2h, 3d, 1h30m or PT90M
     */
    useful_for?: string;
  };
  /**
   * what follows, in order, once an arrival's posts are delivered
   *
   * @maxItems 20
   */
  follow?: {
    name?: string;
    when?: Condition;
    add?: {
      source: string;
      /**
       * fields with their values; formulas may stand in texts
       */
      set: Record<string, unknown>;
    };
    change?: {
      source: string;
      key: Template;
      /**
       * fields with their values; formulas may stand in texts
       */
      set: Record<string, unknown>;
    };
    call?: {
      workflow: string;
      with?: Record<string, unknown>;
    };
    /**
     * what a failure leads to: what comes after it does not follow, or follows all the same, or others are told
     */
    if_fails?:
      | ('stop' | 'go_on')
      | {
          tell: Tell;
        };
  }[];
}
/**
 * This interface was referenced by `Sheet`'s JSON-Schema
 * via the `definition` "question".
 */
export interface Question {
  name: string;
  label?: string;
  type?:
    | 'text'
    | 'number'
    | 'whole number'
    | 'money'
    | 'yes/no'
    | 'date'
    | 'moment'
    | 'span'
    | 'choice'
    | 'choices'
    | 'person'
    | 'link';
  required?: boolean;
  options?: string[];
  help?: string;
}
/**
 * This interface was referenced by `Sheet`'s JSON-Schema
 * via the `definition` "message".
 */
export interface Message {
  title?: Template;
  /**
   * text with formulas in ${ … }
   */
  body?: string;
  facts?: {
    label: Template;
    value: string | number | boolean;
  }[];
  /**
   * text with formulas in ${ … }
   */
  tone?: string;
  link?: {
    text?: Template;
    to: Template;
  };
  list?: {
    /**
     * a formula that gives the list
     */
    of: string;
    /**
     * what stands for each, which is called it
     */
    each: string;
    most?: number;
    when_empty?: 'skip' | 'say';
    empty?: string;
  };
  /**
   * shown where the other side lets the sender be chosen; picture is an address
   */
  sender?: {
    name?: Template;
    picture?: Template;
  };
  /**
   * further links, after link
   */
  links?: {
    text?: Template;
    to: Template;
  }[];
  /**
   * a picture by its address, with what it shows in words
   */
  picture?: {
    from: Template;
    text?: Template;
  };
  /**
   * persons whom the message speaks to, each as person() takes them
   */
  mention?: Template[];
  /**
   * files that go with the message
   */
  attach?: {
    name: Template;
    table: Table;
  }[];
}
/**
 * This interface was referenced by `Sheet`'s JSON-Schema
 * via the `definition` "table".
 */
export interface Table {
  /**
   * a formula that gives the list of records
   */
  of: string;
  /**
   * @minItems 1
   */
  columns: (
    | string
    | {
        field: string;
        label?: string;
        /**
         * how a date is written, such as d MMM
         */
        format?: string;
      }
  )[];
}
