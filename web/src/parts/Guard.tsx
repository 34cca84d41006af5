import { Component, type ReactNode } from 'react';
import { PlainTrouble } from './PlainTrouble';

interface Props {
  /** What is shown here, as its place is called: "This page", "The preview". */
  what: string;
  /** What it depends on: where this changes, it is tried again. */
  of?: unknown;
  /** Whether it is all of the page below the top bar, which has a heading and where the skip link leads. */
  place?: boolean;
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
    const title = `${this.props.what} can't be shown`;
    const said = (
      <PlainTrouble
        what={this.props.place ? undefined : `${title}.`}
        ways={[
          // What had to be fetched and didn't arrive is only fetched again with the whole page.
          ['Reload the page', () => window.location.reload()],
          ['Show it again', () => this.setState({ failed: undefined })],
        ]}
      >
        Reload the page. If that doesn't help, tell whoever runs this server: “{failed.message}”
      </PlainTrouble>
    );
    if (!this.props.place) return said;
    return (
      <main className="place" id="place">
        <h1>{title}</h1>
        {said}
      </main>
    );
  }
}
