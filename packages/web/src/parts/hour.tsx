import { Button } from "@mantine/core";
import { useMutation } from "@tanstack/react-query";
import { useEffect, useState } from "react";
import { useCanEdit, useMe } from "../account/me.ts";
import { server } from "../api/client.ts";

/** In the demo, lets one more hour of business pass at the source. */
export function HourButton() {
  const { demo } = useMe();
  const canEdit = useCanEdit();
  const [told, setTold] = useState(false);
  const pass = useMutation({ mutationFn: () => server.demo.hour.$post(), onSuccess: () => setTold(true) });
  useEffect(() => {
    if (!told) return;
    const timer = setTimeout(() => setTold(false), 6000);
    return () => clearTimeout(timer);
  }, [told]);
  if (!demo || !canEdit) return null;
  return (
    <>
      <span className="quiet" role="status">
        {told ? "An hour has passed at the source. Run a pipeline to load it." : pass.error ? pass.error.message : ""}
      </span>
      <Button variant="outline" loading={pass.isPending} onClick={() => pass.mutate()}>
        Let an hour pass
      </Button>
    </>
  );
}
