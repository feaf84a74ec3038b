import { Component, type ReactNode } from 'react';
import { LinkButton, Quiet } from './Quiet';

/** Where a view fails in itself, it says so and leaves the rest standing. */
export class Wreck extends Component<{ children: ReactNode }, { error: Error | null }> {
  state: { error: Error | null } = { error: null };

  static getDerivedStateFromError(error: Error) {
    return { error };
  }

  render() {
    if (!this.state.error) return this.props.children;
    return (
      <Quiet role="alert">
        This view failed: {this.state.error.message}. Nothing that is stored was touched.{' '}
        <LinkButton onPress={() => this.setState({ error: null })}>Show it again</LinkButton>
      </Quiet>
    );
  }
}
