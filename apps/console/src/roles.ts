import type { Me } from './types';

/** The standard's roles that people have (Part 18, 4.2). A site may have others beside them. */
export const roles = ['Observer', 'Operator', 'Engineer', 'Supervisor', 'ConfigureAdmin', 'SecurityAdmin'];

/** Whether somebody makes pages and edits files. */
export const mayMake = (me: Me) => !!me.roles?.some((role) => ['Engineer', 'ConfigureAdmin', 'SecurityAdmin'].includes(role));
