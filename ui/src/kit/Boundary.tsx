import { Component, type ReactNode } from "react";

interface Props {
  children: ReactNode;
}

interface Caught {
  error: Error | null;
}

/** What went wrong in the page itself is said, with a way on; nothing that was saved is lost by it. */
export class Boundary extends Component<Props, Caught> {
  override state: Caught = { error: null };

  static getDerivedStateFromError(error: Error): Caught {
    return { error };
  }

  override render() {
    const { error } = this.state;
    if (!error) return this.props.children;
    return (
      <main className="h-full overflow-y-auto p-16">
        <p role="alert" className="mb-3 max-w-[40rem]">
          Something went wrong in this page ({error.message}). What was saved is safe, and entries being typed
          are kept in this browser.
        </p>
        <button type="button" className="button mr-2" onClick={() => this.setState({ error: null })}>
          Try again
        </button>
        <a className="button" href="/">
          All networks
        </a>
      </main>
    );
  }
}
