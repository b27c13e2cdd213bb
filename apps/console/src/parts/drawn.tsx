import { useState } from 'react';
import { w } from '../words';
import { Empty } from './status';

/** What is below an object, or what extends a type, as a drawing. */
export function Drawn({ node, isWhole = false }: { node: string; isWhole?: boolean }) {
  const [isRefused, setRefused] = useState(false);
  const at = `/api/drawing?node=${encodeURIComponent(node)}`;
  if (isRefused) return <Empty title={w.node.notDrawn} />;
  return (
    <>
      <div className="drawing" data-whole={isWhole || undefined} tabIndex={0} role="region" aria-label={w.node.drawn}>
        <img src={at} alt={w.node.drawn} onError={() => setRefused(true)} />
      </div>
      <a href={at} download="drawing.svg">
        {w.node.saveDrawing}
      </a>
    </>
  );
}
