import { Component, type ReactNode } from 'react';
import { Link } from 'react-router';
import { Empty, PageHead } from './blocks.tsx';

/** When a page can't be drawn, the others still can: this one says so, and the next address is tried anew. */
export class FaultBoundary extends Component<{ address: string; children: ReactNode }, { failedAt: string | null }> {
  override state = { failedAt: null as string | null };

  static getDerivedStateFromError(): { failedAt: string } {
    return { failedAt: '' };
  }

  override componentDidCatch(): void {
    this.setState({ failedAt: this.props.address });
  }

  override componentDidUpdate(): void {
    const { failedAt } = this.state;
    if (failedAt !== null && failedAt !== '' && failedAt !== this.props.address) this.setState({ failedAt: null });
  }

  override render(): ReactNode {
    if (this.state.failedAt === null) return this.props.children;
    return (
      <>
        <PageHead title="This page can’t be shown" />
        <Empty
          action={
            <Link className="btn btn-sm" to="/">
              Go to the overview
            </Link>
          }
        >
          Its address or its data could not be read.
        </Empty>
      </>
    );
  }
}
