/** Starting the runs of several plans, and saying why one is not started. */
import { send } from '../../lib/api/client';
import { notices } from '../../lib/notices.svelte';

/** Whether any run was started. Raises ApiError. */
export async function startRuns(plans: string[]): Promise<boolean> {
  const asked = await send('POST', '/plans/runs', { plans });
  for (const one of asked.filter((each) => !each.run))
    notices.say(
      `${one.plan} is not started`,
      one.trouble || (one.blockers[0]?.message ?? 'A blocker was found.'),
    );
  return asked.some((one) => one.run);
}
