import { useQuery } from '@tanstack/react-query';
import { get } from '../api';
import type { SiteFile } from '../types';

const kNone: SiteFile[] = [];

/** The files of the site that are edited and not applied. Others edit, too: it is asked for now and then. */
export function useEdited(isAsked: boolean): SiteFile[] {
  const told = useQuery({
    queryKey: ['files'],
    queryFn: () => get<{ files: SiteFile[]; isVersioned: boolean }>('files'),
    enabled: isAsked,
    refetchInterval: 30_000,
    select: (data) => data.files.filter((file) => file.isEdited),
  });
  return told.data ?? kNone;
}
