import { useQuery } from '@pinia/colada'
import { listAll, type Job, type JobKind } from '../api/call'

// useKinds is what the service knows of the kinds of jobs; that does not change while it
// runs.
export const useKinds = () => useQuery({ key: ['job-kinds'], query: () => listAll<JobKind>('/job-kinds'), staleTime: 3600_000 })

// aboutMany tells whether a job is about more than one device, so that what it names is
// no device's page.
export const aboutMany = (j: Job) =>
  ['restore-preview', 'restore', 'scheduled', 'snapshot'].includes(j.kind) || !j.device || j.device.includes(' ')
