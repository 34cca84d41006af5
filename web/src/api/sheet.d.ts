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
  /**
   * the post follows its record until the condition holds
   */
  keep_up?: {
    until: Condition;
    /**
     * a span such as 90s, 45m, 2h, 3d, 1h30m or PT90M
     */
    for?: string;
  };
}[];
/**
 * text with formulas in ${ … }
 *
 * This interface was referenced by `Sheet`'s JSON-Schema
 * via the `definition` "template".
 */
export type Template = string;
/**
 * told where unless does not hold in time; made of the record as it is then
 *
 * @minItems 1
 */
export type Tell1 = {
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
  /**
   * the post follows its record until the condition holds
   */
  keep_up?: {
    until: Condition;
    /**
     * a span such as 90s, 45m, 2h, 3d, 1h30m or PT90M
     */
    for?: string;
  };
}[];

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
    /**
     * of a room: only messages whose first word this is; record.words are the rest
     */
    command?: string;
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
  /**
   * small tables that the sheet carries: name[x] is the first row whose from is x, rows(name, x) all of them
   */
  tables?: {
    /**
     * @maxItems 2000
     */
    [k: string]: Record<string, unknown>[];
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
  /**
   * questions to people, which the workflow waits for; each name is known below it, with choice, by, comment and at
   *
   * @maxItems 10
   */
  ask?: {
    name: string;
    when?: Condition;
    /**
     * who is asked: places of one address each
     */
    of: string | string[];
    /**
     * everybody is to agree: the first of the choices needs all of them
     */
    all?: boolean;
    message: string;
    /**
     * @minItems 2
     */
    choices: (
      | string
      | {
          name: string;
          text?: string;
          comment?: 'none' | 'optional' | 'required';
        }
    )[];
    /**
     * a span such as 90s, 45m, 2h, 3d, 1h30m or PT90M
     */
    within?: string;
    /**
     * each once, counted from the question
     */
    remind?: Span | Span[];
    /**
     * the choice where nobody answers in time
     */
    otherwise?: string;
  }[];
  messages?: {
    [k: string]: Message;
  };
  route?: {
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
  /**
   * what a caller is answered who waits; only of a workflow that is started by a call
   */
  answer?: {
    status?: number;
    /**
     * JSON; formulas may stand in its texts, and outcome is the verdict
     */
    body?: unknown;
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
      /**
       * a formula that gives a list: a record for each, which is called it; 1,000 at most
       */
      each?: string;
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
    unless?: Unless;
    tell?: Tell1;
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
   * further links, after link: to addresses, or to shared pages
   */
  links?: {
    text?: Template;
    to?: Template;
    /**
     * fields of the record that a page shows to people without an account
     */
    share?: string | string[];
    /**
     * a span such as 90s, 45m, 2h, 3d, 1h30m or PT90M
     */
    for?: string;
  }[];
  /**
   * a picture: at an address, or drawn of figures
   */
  picture?: {
    from?: Template;
    chart?: Chart;
    table?: TablePicture;
    /**
     * text with formulas in ${ … }
     */
    text?: string;
  };
  /**
   * persons whom the message speaks to, each as person() takes them
   */
  mention?: Template[];
  /**
   * files that go with the message
   */
  attach?: {
    name?: Template;
    table?: Table;
    /**
     * text with formulas in ${ … }
     */
    from?: string;
  }[];
  /**
   * buttons that act; where the other side has none, signed links
   *
   * @maxItems 8
   */
  buttons?: {
    text: Template;
    /**
     * text with formulas in ${ … }
     */
    who?: string;
    /**
     * of the arrival's own record
     */
    change?: {
      /**
       * fields with their values; formulas may stand in texts
       */
      set: Record<string, unknown>;
    };
    /**
     * whoever presses looks after it
     */
    claim?: true;
    /**
     * a span such as 90s, 45m, 2h, 3d, 1h30m or PT90M
     */
    later?: string;
    call?: {
      workflow: string;
      with?: Record<string, unknown>;
    };
  }[];
  /**
   * a copy of a chat message, in the place of body, facts and list
   */
  like?:
    | string
    | {
        of: string;
        header?: Template;
        footer?: Template;
        author?: boolean;
      };
}
/**
 * This interface was referenced by `Sheet`'s JSON-Schema
 * via the `definition` "chart".
 */
export interface Chart {
  /**
   * a formula that gives a list
   */
  of: string;
  kind: 'columns' | 'bars' | 'line' | 'share';
  /**
   * a field of moments, which by groups by day, week or month
   */
  at?: string;
  /**
   * day, week or month with at; without, a field
   */
  by: string;
  /**
   * count(), or sum, avg, min or max of a field
   */
  value: string;
  /**
   * a field with whose values there is a series each; 12 at most, the rest is others
   */
  split?: string;
  title?: Template;
}
/**
 * This interface was referenced by `Sheet`'s JSON-Schema
 * via the `definition` "tablePicture".
 */
export interface TablePicture {
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
  /**
   * how many rows are shown; the rest is counted
   */
  most?: number;
  /**
   * a line with the sums of the columns of numbers
   */
  total?: boolean;
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
/**
 * exactly one condition, which may ask whether the alert was claimed or answered, and within
 *
 * This interface was referenced by `Sheet`'s JSON-Schema
 * via the `definition` "unless".
 */
export interface Unless {
  within: Span;
}
