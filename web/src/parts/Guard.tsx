import { Component, type ReactNode } from 'react';

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
      <div className="trouble" role="alert">
        <strong>{this.props.what} could not be shown.</strong> {failed.message}{' '}
        <button type="button" className="plain-button" onClick={() => this.setState({ failed: undefined })}>
          Show it again
        </button>
      </div>
    );
  }
}
