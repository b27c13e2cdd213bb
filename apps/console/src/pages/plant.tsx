import { SegmentedControl } from '@mantine/core';
import { useState } from 'react';
import { w } from '../words';
import { Drawn } from '../parts/drawn';
import { Outline } from '../parts/outline';

const roots = [
  { value: 'i=85', label: w.plant.objects },
  { value: 'i=86', label: w.plant.types },
  { value: 'i=84', label: w.plant.whole },
];

export default function Plant() {
  const [root, setRoot] = useState('i=85');
  const [isDrawn, setDrawn] = useState(false);
  const looks = [
    { value: 'tree', label: w.plant.tree },
    { value: 'drawn', label: w.node.drawn },
  ];
  return (
    <div className="stack" style={{ height: '100%', display: 'flex', flexDirection: 'column' }}>
      <div className="title" style={{ marginBottom: 0 }}>
        <h1>{w.plant.title}</h1>
        <span className="soft">{isDrawn ? w.plant.drawnHint : w.plant.hint}</span>
        <span className="does">
          <SegmentedControl size="xs" data={roots} value={root} onChange={setRoot} aria-label={w.plant.title} />
          <SegmentedControl size="xs" data={looks} value={isDrawn ? 'drawn' : 'tree'} onChange={(look) => setDrawn(look === 'drawn')} aria-label={w.plant.look} />
        </span>
      </div>
      {isDrawn ? (
        <Drawn key={root} node={root} isWhole />
      ) : (
        <div style={{ flex: 1, minHeight: 200 }}>
          <Outline key={root} root={root} height="100%" />
        </div>
      )}
    </div>
  );
}
