/** Whether the person left by signing out; a session that ended otherwise keeps its page. */
export const left = { now: false };
