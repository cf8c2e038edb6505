import { useQuery } from '@pinia/colada'
import { listAll, query, type Job } from '../api/call'

// useWaiting is what waits: pushes to be confirmed, restarts, approvals, plans whose time has not come.
export const useWaiting = () =>
  useQuery({ key: ['jobs', 'waiting'], query: () => listAll<Job>('/jobs' + query({ state: 'waiting', limit: 1000 })) })
