import { api } from '../api/calls'
import { useAsync } from './useAsync'

const shared = useAsync(api.status)

/** What is being looked at; shared by the reading line and Today. */
export function useStatus() {
  return shared
}
