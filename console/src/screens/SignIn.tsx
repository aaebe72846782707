import { useQuery } from "@tanstack/react-query";
import { useEffect, useState } from "react";
import { useNavigate, useSearchParams } from "react-router";
import styled from "styled-components";
import { at } from "../lib/base";
import { signIn, signInByName, signInWaysQuery } from "../lib/queries";
import { Button } from "../ui/Button";
import { Field } from "../ui/Field";
import { Trouble } from "../ui/States";
import { factsOf } from "./Loaded";

const Middle = styled.main`
  max-width: 520px;
  margin: 14vh auto 0;
  padding: 0 ${({ theme }) => theme.space.xl};
  h1 { font-size: ${({ theme }) => theme.size.title}; display: flex; gap: 10px; align-items: center; }
  code { background: ${({ theme }) => theme.color.sunken}; border-radius: 4px; padding: 2px 6px; white-space: nowrap; }
  form { display: grid; gap: ${({ theme }) => theme.space.m}; max-width: 320px; margin: ${({ theme }) => theme.space.l} 0; justify-items: start; }
  form > div { width: 100%; }
  p { color: ${({ theme }) => theme.color.inkSoft}; }
`;

const Elsewhere = styled.a`
  display: inline-block;
  padding: ${({ theme }) => theme.space.s} ${({ theme }) => theme.space.l};
  border-radius: 6px;
  background: ${({ theme }) => theme.color.reed};
  color: ${({ theme }) => theme.color.onReed};
  font-weight: 600;
  text-decoration: none;
  &:hover { background: ${({ theme }) => theme.color.reedStrong}; }
`;

/** Why the provider's sign-in came to nothing, by its code; the service's log says more. */
const FAILED: Record<string, string> = {
  "access.no_role": "You are known there, but nothing gives you a role here. Ask an admin.",
  "access.disabled": "Your user is disabled here. Ask an admin.",
  "access.too_many_attempts": "Several tries failed. Wait a minute, then try again.",
  "user.exists": "Somebody of your name is here already, and is not known to be you. Ask an admin.",
};

// React may run an effect twice; a code is good only once.
let spent = "";

/** Trades the code behind #, or a name and its password, for a session. The code never reaches a log, since browsers do not send that part. */
export function SignIn() {
  const navigate = useNavigate();
  const [error, setError] = useState<Error | null>(null);
  const [name, setName] = useState("");
  const [password, setPassword] = useState("");
  const [trying, setTrying] = useState(false);
  const failed = useSearchParams()[0].get("failed");
  const ways = useQuery(signInWaysQuery());
  const openid = ways.data?.openid;
  const code = window.location.hash.slice(1);
  useEffect(() => {
    if (!code || spent === code) return;
    spent = code;
    signIn(code).then(
      () => navigate("/", { replace: true }),
      (reason: Error) => setError(reason),
    );
  }, [code, navigate]);
  const byName = () => {
    setTrying(true);
    signInByName(name, password)
      .then(
        () => navigate("/", { replace: true }),
        (reason: Error) => setError(reason),
      )
      .finally(() => setTrying(false));
  };
  return (
    <Middle>
      <h1>
        <img src={at("/assets/reed.svg")} alt="" width="26" height="26" /> Reed Basket
      </h1>
      {error && <Trouble facts={factsOf(error)} />}
      {failed && !error && (
        <Trouble
          facts={{
            code: failed,
            message: FAILED[failed] ?? "The sign-in failed. Try again, or ask whoever runs the service.",
          }}
        />
      )}
      {code && !error ? (
        <p role="status">Signing in …</p>
      ) : (
        <>
          {openid && (
            <p>
              <Elsewhere href={at("/sign-in/openid")}>Sign in with {openid}</Elsewhere>
            </p>
          )}
          <form
            aria-label="Sign in"
            onSubmit={(event) => {
              event.preventDefault();
              byName();
            }}
          >
            <Field label="Name" value={name} change={setName} autoComplete="username" />
            <Field label="Password" value={password} change={setPassword} type="password" autoComplete="current-password" />
            <Button look="main" type="submit" isPending={trying} isDisabled={!name || !password}>
              Sign in
            </Button>
          </form>
          <p>
            Or get a link that signs you in once, on the machine it runs on: <code>reed sign-in</code>
          </p>
        </>
      )}
    </Middle>
  );
}
