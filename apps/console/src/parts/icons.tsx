import type { ReactNode } from 'react';

const shapes: Record<string, ReactNode> = {
  overview: <path d="M3 13 12 4l9 9M6 11v9h12v-9" />,
  plant: <path d="M5 5h5v4H5zM14 10h5v4h-5zM14 16h5v4h-5zM7 9v9h7M7 12h7" />,
  watch: <path d="M4 6h16M4 12h16M4 18h9M17 16l2 2 3-4" />,
  trend: <path d="M3 20h18M4 16l5-6 4 3 7-9" />,
  pages: <path d="M4 4h7v9H4zM13 4h7v5h-7zM13 11h7v9h-7zM4 15h7v5H4z" />,
  alarms: <path d="M12 3 2 20h20L12 3zM12 10v5M12 17.5v.5" />,
  devices: <path d="M4 5h16v9H4zM8 14v5M16 14v5M6 19h12M8 9.5h.5M12 9.5h.5M16 9.5h.5" />,
  access: <path d="M8 14a4 4 0 1 1 3.5-6H21v4h-3v3h-4v-3h-2.500A4 4 0 0 1 8 14z" />,
  record: <path d="M6 3h9l4 4v14H6zM9 9h6M9 13h7M9 17h7" />,
  files: <path d="M4 6h6l2 2h8v11H4zM8 13h8M8 16h5" />,
  changes: <path d="M5 8h12l-3-3M19 16H7l3 3" />,
  seek: <path d="M10.500 4a6.500 6.500 0 1 0 0 13 6.500 6.500 0 0 0 0-13zM15.500 15.500 21 21" />,
  more: <path d="M6 12h.1M12 12h.1M18 12h.1" strokeWidth="3" />,
  close: <path d="M6 6l12 12M18 6 6 18" />,
  plus: <path d="M12 5v14M5 12h14" />,
  fold: <path d="M9 6l6 6-6 6" />,
  unfold: <path d="M6 9l6 6 6-6" />,
};

export function Icon({ name, size = 18 }: { name: string; size?: number }) {
  return (
    <svg width={size} height={size} viewBox="0 0 24 24" fill="none" stroke="currentColor" strokeWidth="1.8" strokeLinecap="round" strokeLinejoin="round" aria-hidden="true">
      {shapes[name]}
    </svg>
  );
}
