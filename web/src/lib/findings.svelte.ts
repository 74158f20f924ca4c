/** Findings of the page that is open, so that they can be found by name. */
import type { Destination } from '../features/shell/destinations';

class OpenFindings {
  list = $state.raw<Destination[]>([]);
}

export const openFindings = new OpenFindings();
