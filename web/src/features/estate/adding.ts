/** The login of hosts that are added, and their place where the list has none. */
export interface NewLogin {
  user: string;
  /** The keyring entry, and its new value; '': the value it has. */
  credential: string;
  secret: string;
  kind: 'password' | 'key';
  site: string;
  bay: string;
}
