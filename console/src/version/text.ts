import { useQuery } from '@pinia/colada'
import { get, query, type Schemas } from '../api/call'

// useText is a version with its text. However many on a page ask for it, the service is
// asked once. open shows its secrets, which is written down; that is not asked for again
// by itself, nor kept. Nothing is asked while is says no.
export const useText = (of: () => string, open: () => boolean, is = () => true) =>
  useQuery({
    key: () => [open() ? 'text' : 'part', of().split(/[@/]/)[0], 'text', of()],
    query: () => get<Schemas['Text']>('/version' + query({ ref: of(), masked: open() ? undefined : true })),
    enabled: () => !!of() && is(),
    gcTime: 0,
    placeholderData: (before) => before, // until the other is there
  })
