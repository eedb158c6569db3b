import { ElMessageBox } from "element-plus";

/** Asks whether something shall be done that has a price. The text says what it costs, the button what is done. */
export const sure = (text: string, yes: string, no = "Leave it"): Promise<boolean> =>
  ElMessageBox.confirm(text, {
    confirmButtonText: yes,
    cancelButtonText: no,
    type: "warning",
    autofocus: false, // Enter on what just appeared must not do it
  }).then(
    () => true,
    () => false,
  );
