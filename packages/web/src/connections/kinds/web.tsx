import { NumberInput, PasswordInput, Select, TextInput } from "@mantine/core";
import type { ApiSignIn } from "@undercoat/core/http/openapi";
import type { HttpAuth, WebSettings } from "@undercoat/core/pipeline/pipeline";
import type { FieldsProps, KindForm } from "./kind.ts";
import { kept, Pair } from "./network.tsx";

/** How applications are signed in to, which are asked by HTTP. */

const ways = [
  { value: "none", label: "nothing" },
  { value: "basic", label: "a user and a password" },
  { value: "key", label: "a key in a header" },
  { value: "bearer", label: "a bearer token" },
  { value: "client_credentials", label: "OAuth 2, in its own name" },
  { value: "authorization_code", label: "OAuth 2, with somebody's consent" },
];

function wayOf(auth: HttpAuth | undefined): string {
  if (!auth) return "none";
  return auth.oauth ? auth.oauth.grant : (Object.keys(auth)[0] ?? "none");
}

/** What the fields of signing in hold first. */
export const signInInitial = ({ url, auth, limits }: Partial<WebSettings>) => ({
  url: url ?? "",
  way: wayOf(auth),
  user: auth?.basic?.user ?? "",
  header: auth?.key?.header ?? "X-Api-Key",
  client: auth?.oauth?.client ?? "",
  token: auth?.oauth?.token ?? "",
  authorize: auth?.oauth?.authorize ?? "",
  scopes: auth?.oauth?.scopes?.join(" ") ?? "",
  minute: limits?.minute ? String(limits.minute) : "",
  hour: limits?.hour ? String(limits.hour) : "",
});

const isAddress = (value: string) => /^https?:\/\/[^\s@]+$/.test(value.trim());

export const webWrong: KindForm["wrong"] = {
  url: (value) => (isAddress(value) ? null : "An address that begins with http:// or https://"),
};

function authOf({
  way = "none",
  user = "",
  header = "",
  client = "",
  token = "",
  authorize = "",
  scopes = "",
}: Record<string, string>): HttpAuth | null {
  switch (way) {
    case "basic":
      return { basic: { user } };
    case "key":
      return { key: { header } };
    case "bearer":
      return { bearer: true };
    case "client_credentials":
    case "authorization_code": {
      const asked = scopes.split(/[\s,]+/).filter(Boolean);
      return {
        oauth: {
          grant: way,
          ...(way === "authorization_code" ? { authorize: authorize.trim() } : {}),
          token: token.trim(),
          client: client.trim(),
          ...(asked.length ? { scopes: asked } : {}),
        },
      };
    }
    default:
      return null;
  }
}

export function signInSettings(fields: Record<string, string>): WebSettings {
  const auth = authOf(fields);
  const [minute, hour] = [Number(fields.minute), Number(fields.hour)];
  const limits = { ...(minute ? { minute } : {}), ...(hour ? { hour } : {}) };
  return {
    url: (fields.url ?? "").trim(),
    ...(auth ? { auth } : {}),
    ...(Object.keys(limits).length ? { limits } : {}),
  };
}

/** What the fields of signing in hold for a way that an application's description names. */
export function signInFields(way: ApiSignIn): Record<string, string> {
  switch (way.way) {
    case "key":
      return { way: "key", header: way.header };
    case "oauth": {
      const { grant, token, authorize = "", scopes = [] } = way.oauth;
      return { way: grant, token, authorize, scopes: scopes.join(" ") };
    }
    default:
      return { way: way.way };
  }
}

const secretNames: Record<string, string> = {
  basic: "Password",
  key: "Key",
  bearer: "Token",
  client_credentials: "Client's secret",
  authorization_code: "Client's secret",
};

/** The fields of signing in, and of how often it may be asked. */
export function SignInFields({ form, connection }: FieldsProps) {
  const { way = "none" } = form.values.fields;
  const field = (name: string) => form.getInputProps(`fields.${name}`);
  const oauth = way === "client_credentials" || way === "authorization_code";
  const secret = secretNames[way];
  return (
    <>
      <Select label="It signs in with" data={ways} allowDeselect={false} {...field("way")} />
      {oauth && (
        <>
          {way === "authorization_code" && (
            <TextInput
              label="Where somebody consents"
              placeholder="https://gate.example/oauth/authorize"
              classNames={{ input: "mono" }}
              {...field("authorize")}
            />
          )}
          <TextInput
            label="Where tokens are given"
            placeholder="https://gate.example/oauth/token"
            classNames={{ input: "mono" }}
            {...field("token")}
          />
          <TextInput
            label="Scopes"
            description="What it asks to be allowed, with spaces between"
            classNames={{ input: "mono" }}
            {...field("scopes")}
          />
        </>
      )}
      {secret && (
        <Pair>
          {way === "basic" && <TextInput label="User" autoComplete="off" {...field("user")} />}
          {way === "key" && <TextInput label="Header" classNames={{ input: "mono" }} {...field("header")} />}
          {oauth && <TextInput label="Client" autoComplete="off" {...field("client")} />}
          <PasswordInput
            label={secret}
            autoComplete="new-password"
            placeholder={kept(connection)}
            {...form.getInputProps("password")}
          />
        </Pair>
      )}
      <Pair>
        <NumberInput
          label="Requests a minute, at most"
          placeholder="no limit"
          min={1}
          allowDecimal={false}
          {...field("minute")}
        />
        <NumberInput
          label="Requests an hour, at most"
          placeholder="no limit"
          min={1}
          allowDecimal={false}
          {...field("hour")}
        />
      </Pair>
    </>
  );
}
