import { networkSteps } from "../../connection/check.ts";
import type { CredentialsOf } from "../../connection/credentials.ts";
import { FilesSource } from "../files/files.ts";
import { HostKeyRefused, SftpStore } from "./store.ts";

/** A folder of a host that is reached by SFTP, as a source. */
export function sftpSource(credentials: CredentialsOf<"sftp">): FilesSource {
  const { settings } = credentials;
  const open = (signal?: AbortSignal) => SftpStore.open(credentials, signal);
  return new FilesSource(credentials, open, (opened) => {
    // One sign-in serves the three steps that it shows.
    let signing: Promise<SftpStore> | null = null;
    const signIn = () => {
      signing ??= open();
      return signing;
    };
    return [
      ...networkSteps(settings),
      [
        "host key",
        async () => {
          await signIn().catch((error: unknown) => {
            if (error instanceof HostKeyRefused) throw error;
          });
          return { fact: `its key is the one accepted, ${settings.hostKey}` };
        },
      ],
      [
        "sign in",
        async () => {
          opened(await signIn());
          return { fact: `signed in as ${settings.user}; the folder ${settings.path} is there` };
        },
      ],
    ];
  });
}
