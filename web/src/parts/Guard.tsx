import { Component, type ReactNode } from 'react';
import { PlainTrouble } from './PlainTrouble';

interface Props {
  /** What is shown here, as its place is called: "This page", "The preview". */
  what: string;
  /** What it depends on: where this changes, it is tried again. */
  of?: unknown;
  children: ReactNode;
}

interface State {
  failed?: Error;
  of?: unknown;
}

/**
 * Keeps a fault in drawing one part from taking everything around it away: it says so in that part's place and draws it again when
 * asked to, or when what it depends on has changed.
 */
export class Guard extends Component<Props, State> {
  state: State = { of: this.props.of };

  static getDerivedStateFromError(failed: unknown): State {
    return { failed: failed instanceof Error ? failed : new Error(String(failed)) };
  }

  static getDerivedStateFromProps(props: Props, state: State): State | null {
    return Object.is(props.of, state.of) ? null : { failed: undefined, of: props.of };
  }

  render() {
    const { failed } = this.state;
    if (!failed) return this.props.children;
    return (
      <PlainTrouble
        what={`${this.props.what} can't be shown.`}
        ways={[
          ['Show it again', () => this.setState({ failed: undefined })],
          // What had to be fetched and didn't arrive is only fetched again with the whole page.
          ['Reload the page', () => window.location.reload()],
        ]}
      >
        This is a fault in Dorfbote: “{failed.message}”. If it happens again, tell whoever runs this server.
      </PlainTrouble>
    );
  }
}
